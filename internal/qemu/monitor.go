package qemu

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Monitor is a connection to a machine's monitor (QMP: QEMU's manual, “QEMU Machine
// Protocol Specification”). A machine talks to one at a time; others wait. It is for one
// goroutine.
type Monitor struct {
	conn   *net.UnixConn
	in     *bufio.Reader
	events []event // that came before they were waited for
}

type event struct {
	Name string          `json:"event"`
	Data json.RawMessage `json:"data"`
}

// CommandError says that a machine refused a command.
type CommandError struct{ Command, Class, Why string }

// Error tells which, and why.
func (e *CommandError) Error() string {
	return fmt.Sprintf("the machine's monitor refused %s: %s", e.Command, e.Why)
}

// patience is how long an answer may take at most, and agentPatience how long a guest agent may take where nothing else bounds it: it may
// not have been started yet.
const (
	patience      = 20 * time.Second
	eventPatience = time.Hour // of an event, such as the end of a copy, where nothing else bounds it
	agentPatience = 60 * time.Second
)

// SilentError says that a machine did not answer in time, and what it was asked.
type SilentError struct {
	Who, Asked string
	After      time.Duration
}

// Error says who, what, and after how long.
func (s *SilentError) Error() string {
	return fmt.Sprintf("%s did not answer %s within %s", s.Who, s.Asked, s.After.Round(100*time.Millisecond))
}

// Timeout is true: see net.Error.
func (s *SilentError) Timeout() bool { return true }

// Temporary is true: it may answer the next time.
func (s *SilentError) Temporary() bool { return true }

// silent puts what was asked into an error that says that time ran out.
func silent(err error, asked string, since time.Time) error {
	if timeout, ok := errors.AsType[net.Error](err); ok && timeout.Timeout() {
		return &SilentError{"the machine's monitor", asked, time.Since(since)}
	}
	return err
}

// longestLine is how long an answer may be, in bytes: a machine that was taken over from inside sends
// what it likes.
const longestLine = 4 << 20

// DialMonitor connects to a monitor. It fails where none answers in time.
func DialMonitor(ctx context.Context, path string) (*Monitor, error) {
	conn, err := (&net.Dialer{Timeout: patience}).DialContext(ctx, "unix", path)
	if err != nil {
		return nil, err
	}
	m := &Monitor{conn: conn.(*net.UnixConn), in: bufio.NewReader(conn)}
	m.until(ctx)
	began := time.Now()
	if _, err := m.line(); err != nil {
		return nil, errors.Join(silent(err, "with its greeting", began), conn.Close())
	}
	if err := m.Do(ctx, "qmp_capabilities", nil, nil); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return m, nil
}

// Close closes the connection. The machine goes on.
func (m *Monitor) Close() error { return m.conn.Close() }

// until bounds what is read and written next.
func (m *Monitor) until(ctx context.Context) {
	end := time.Now().Add(patience)
	if d, ok := ctx.Deadline(); ok && d.Before(end) {
		end = d
	}
	_ = m.conn.SetDeadline(end)
}

func (m *Monitor) line() ([]byte, error) {
	var line []byte
	for {
		part, err := m.in.ReadSlice('\n')
		line = append(line, part...)
		if err == nil {
			return line, nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) || len(line) > longestLine {
			return nil, fmt.Errorf("the machine's monitor: %w", err)
		}
	}
}

// Do runs a command and reads its result, if it is wanted. The error is a *CommandError where the
// machine refused it; any other means that it is not known whether it was done.
func (m *Monitor) Do(ctx context.Context, command string, args, result any) error {
	return m.do(ctx, command, args, result, nil)
}

// DoWithFile is Do for a command that comes with an open file.
func (m *Monitor) DoWithFile(ctx context.Context, command string, args any, f *os.File) error {
	return m.do(ctx, command, args, nil, unix.UnixRights(int(f.Fd())))
}

func (m *Monitor) do(ctx context.Context, command string, args, result any, rights []byte) error {
	m.until(ctx)
	began := time.Now()
	text, err := json.Marshal(struct {
		Execute   string `json:"execute"`
		Arguments any    `json:"arguments,omitempty"`
	}{command, args})
	if err != nil {
		return err
	}
	if _, _, err := m.conn.WriteMsgUnix(append(text, '\n'), rights, nil); err != nil {
		return silent(err, command, began)
	}
	for {
		line, err := m.line()
		if err != nil {
			return silent(err, command, began)
		}
		var answer struct {
			event
			Return json.RawMessage `json:"return"`
			Error  *struct {
				Class string `json:"class"`
				Why   string `json:"desc"`
			} `json:"error"`
		}
		if err := json.Unmarshal(line, &answer); err != nil {
			return fmt.Errorf("the machine's monitor: %w", err)
		}
		switch {
		case answer.Name != "":
			m.events = append(m.events, answer.event)
		case answer.Error != nil:
			return &CommandError{command, answer.Error.Class, answer.Error.Why}
		case result != nil:
			return json.Unmarshal(answer.Return, result)
		default:
			return nil
		}
	}
}

// Await waits for an event that a function takes for the one that is waited for.
func (m *Monitor) Await(ctx context.Context, is func(name string, data json.RawMessage) bool) error {
	for {
		for len(m.events) > 0 {
			e := m.events[0]
			m.events = m.events[1:]
			if is(e.Name, e.Data) {
				return nil
			}
		}
		_ = m.conn.SetDeadline(time.Now().Add(eventPatience))
		if d, ok := ctx.Deadline(); ok {
			_ = m.conn.SetDeadline(d)
		}
		line, err := m.line()
		if err != nil {
			return err
		}
		var e event
		if err := json.Unmarshal(line, &e); err != nil {
			return fmt.Errorf("the machine's monitor: %w", err)
		}
		m.events = append(m.events, e)
	}
}

// Agent asks a machine's guest agent something (QEMU's manual, “QEMU Guest Agent Protocol
// Reference”). What is inside the machine answers: it may say anything, or nothing.
// It is waited for a minute at most.
func Agent(ctx context.Context, path, command string, args, result any) error {
	ctx, cancel := context.WithTimeout(ctx, agentPatience)
	defer cancel()
	conn, err := (&net.Dialer{Timeout: patience}).DialContext(ctx, "unix", path)
	if err != nil {
		return err
	}
	m := &Monitor{conn: conn.(*net.UnixConn), in: bufio.NewReader(conn)}
	defer m.Close()
	for {
		err := m.sync(ctx)
		if err == nil {
			return m.Do(ctx, command, args, result)
		}
		// What is sent before the agent listens is lost, so it is asked again.
		if timeout, ok := errors.AsType[net.Error](err); !ok || !timeout.Timeout() || ctx.Err() != nil {
			return fmt.Errorf("the guest agent does not answer: %w", err)
		}
	}
}

// syncTime is how long an agent that listens may take to answer.
const syncTime = time.Second

// sync asks an agent for a number, and reads until that comes: an answer to whoever asked before may still
// be on its way.
func (m *Monitor) sync(ctx context.Context) error {
	id := time.Now().UnixNano() >> 12
	text, err := json.Marshal(map[string]any{"execute": "guest-sync", "arguments": map[string]int64{"id": id}})
	if err != nil {
		return err
	}
	m.until(ctx)
	if _, err := m.conn.Write(append(text, '\n')); err != nil {
		return err
	}
	end := time.Now().Add(syncTime)
	if d, ok := ctx.Deadline(); ok && d.Before(end) {
		end = d
	}
	_ = m.conn.SetDeadline(end)
	for {
		line, err := m.line()
		if err != nil {
			return err
		}
		var answer struct {
			Return json.Number `json:"return"`
		}
		if json.Unmarshal(line, &answer) == nil && answer.Return.String() == fmt.Sprint(id) {
			return nil
		}
	}
}
