package sim

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/sentence"
)

// Faults are what the stand-in cloud can be told to do wrong, for tests and for
// people who learn. Steps are counted in each process from 1: each resource that is made,
// altered or removed is one, and so is each change of the tables. The zero Faults does
// all right.
type Faults struct {
	Halt  int            `json:"halt,omitempty"`  // kills the process after so many writes, the ledger's too, as a power cut would
	Late  time.Duration  `json:"late,omitempty"`  // each answer comes so much later
	Fail  []int          `json:"fail,omitempty"`  // these steps fail, with nothing done
	Lose  []int          `json:"lose,omitempty"`  // these steps are done, and their answers are lost
	Stuck []string       `json:"stuck,omitempty"` // machines that do not get through their boot
	Room  *int           `json:"room,omitempty"`  // there is room for so many machines in all
	Quota map[string]int `json:"quota,omitempty"` // lower limits: machines, cpus, memoryMiB, addresses, diskGB
}

// FaultWords tells the words of [ParseFaults], for people.
var FaultWords = []string{
	"halt=N        the process is killed after N writes, those of the ledger too",
	"late=200ms    each answer comes so much later",
	"fail=N        step N fails, with nothing done",
	"lose=N        step N is done, and its answer is lost",
	"stuck=MACHINE the machine does not get through its boot",
	"room=N        there is room for N machines in all",
	"quota=WHAT:N  a lower limit: machines, cpus, memoryMiB, addresses or diskGB",
}

// quotas are the limits that a fault can lower.
var quotas = []string{"machines", "cpus", "memoryMiB", "addresses", "diskGB"}

// ParseFaults reads words such as fail=3 and late=200ms.
func ParseFaults(words []string) (f Faults, err error) {
	for _, word := range words {
		key, value, ok := strings.Cut(word, "=")
		n, notNumber := strconv.Atoi(value)
		positive := ok && notNumber == nil && n > 0
		switch {
		case key == "halt" && positive:
			f.Halt = n
		case key == "fail" && positive:
			f.Fail = append(f.Fail, n)
		case key == "lose" && positive:
			f.Lose = append(f.Lose, n)
		case key == "room" && notNumber == nil && n >= 0:
			f.Room = &n
		case key == "late":
			if f.Late, err = time.ParseDuration(value); err != nil || f.Late < 0 {
				return Faults{}, fmt.Errorf("late is a length of time such as 200ms, not “%s”", value)
			}
		case key == "stuck" && sentence.ValidName(value) == nil:
			f.Stuck = append(f.Stuck, value)
		case key == "quota":
			what, count, _ := strings.Cut(value, ":")
			limit, err := strconv.Atoi(count)
			if err != nil || limit < 0 || !slices.Contains(quotas, what) {
				return Faults{}, fmt.Errorf("quota is such as machines:3, of %s; not “%s”", strings.Join(quotas, ", "), value)
			}
			if f.Quota == nil {
				f.Quota = map[string]int{}
			}
			f.Quota[what] = limit
		default:
			return Faults{}, fmt.Errorf("“%s” is no fault; they are:\n  %s", word, strings.Join(FaultWords, "\n  "))
		}
	}
	return f, nil
}

// Words prints the faults as ParseFaults reads them.
func (f Faults) Words() (words []string) {
	add := func(key string, value any) { words = append(words, fmt.Sprintf("%s=%v", key, value)) }
	if f.Halt > 0 {
		add("halt", f.Halt)
	}
	if f.Late > 0 {
		add("late", f.Late)
	}
	for _, n := range f.Fail {
		add("fail", n)
	}
	for _, n := range f.Lose {
		add("lose", n)
	}
	for _, m := range f.Stuck {
		add("stuck", m)
	}
	if f.Room != nil {
		add("room", *f.Room)
	}
	for _, q := range quotas {
		if n, ok := f.Quota[q]; ok {
			add("quota", fmt.Sprintf("%s:%d", q, n))
		}
	}
	return words
}

func (f Faults) isZero() bool { return len(f.Words()) == 0 }

// limits lowers the limits of the catalogue.
func (f Faults) limits(l cost.Amounts) cost.Amounts {
	for what, field := range map[string]*int{"machines": &l.Machines, "cpus": &l.CPUs, "memoryMiB": &l.MemoryMiB, "addresses": &l.Addresses, "diskGB": &l.DiskGB} {
		if n, ok := f.Quota[what]; ok {
			*field = min(*field, n)
		}
	}
	return l
}

func faultsFile(dir string) string { return filepath.Join(dir, "faults.json") }

// keptFaults reads the faults that are to be played until somebody takes them
// back; a file that cannot be read is none.
func keptFaults(dir string) (f Faults) {
	data, err := os.ReadFile(faultsFile(dir))
	if err != nil || json.Unmarshal(data, &f) != nil {
		return Faults{}
	}
	return f
}

// KeepFaults sets the faults that this and later processes play. Steps that fail
// or are lost are struck out once they were played.
func (s *Site) KeepFaults(f Faults) error {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	s.faults, s.kept = f, true
	if f.isZero() {
		if err := os.Remove(faultsFile(s.dir)); !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	data, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return os.WriteFile(faultsFile(s.dir), data, 0o600)
}

// Faults tells what is played.
func (s *Site) Faults() Faults { return s.faults }

// strike takes a fault that was played off the list.
func (s *Site) strike(list *[]int, i int) {
	*list = slices.Delete(slices.Clone(*list), i, i+1)
	if s.kept {
		_ = s.KeepFaults(s.faults) // at worst it is played again
	}
}

// failing plays the fault of a step that fails before anything is done.
func (s *Site) failing() error {
	if i := slices.Index(s.faults.Fail, s.steps+1); i >= 0 {
		s.steps++
		s.strike(&s.faults.Fail, i)
		return errors.New("the site's interface answered with an error of its own (a fault that is played)")
	}
	return nil
}

// play plays the faults that come after a step was done.
func (s *Site) play(ctx context.Context) error {
	s.steps++
	if err := s.Wrote(ctx); err != nil {
		return err
	}
	if s.faults.Late > 0 {
		if err := s.clock.Sleep(ctx, s.faults.Late); err != nil {
			return err
		}
	}
	if i := slices.Index(s.faults.Lose, s.steps); i >= 0 {
		s.strike(&s.faults.Lose, i)
		return driver.ErrLost
	}
	return nil
}

// Wrote counts a write, of the site or of the ledger beside it, and kills the process
// where it was told to, as a power cut would: nothing of it runs after that.
func (s *Site) Wrote(context.Context) error {
	s.mu.Lock()
	s.writes++
	halt := s.faults.Halt > 0 && s.writes >= s.faults.Halt
	s.mu.Unlock()
	if !halt {
		return nil
	}
	if err := syscall.Kill(os.Getpid(), syscall.SIGKILL); err != nil {
		return err
	}
	select {}
}

// room refuses one machine more than there is room for.
func (f Faults) room(machines int, size string) error {
	if f.Room == nil || machines < *f.Room {
		return nil
	}
	return fmt.Errorf("the site has no room for a machine of size %s now; try again later, or another size", cmp.Or(size, "any"))
}
