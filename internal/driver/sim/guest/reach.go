package guest

import (
	"fmt"
	"strconv"
	"strings"
)

// Request is what a program inside a machine asks of the network around it: its own process can reach nothing.
type Request struct {
	Kind   string   `json:"kind"` // ping, ssh or http
	Target string   `json:"target"`
	Port   int      `json:"port,omitempty"`
	Count  int      `json:"count,omitempty"`
	User   string   `json:"user,omitempty"`
	Keys   []string `json:"keys,omitempty"` // private halves that the user has
	Line   string   `json:"line,omitempty"` // what runs there
	Path   string   `json:"path,omitempty"`
	Input  string   `json:"input,omitempty"`
}

// Reply is what came of it.
type Reply struct {
	Out  string `json:"out,omitempty"`
	Err  string `json:"err,omitempty"`
	Exit int    `json:"exit"`
}

// reach asks, and lets the machine's other programs go on meanwhile.
func (c call) reach(r Request) int {
	if c.g.Reach == nil {
		return c.fail(1, "the network is unreachable")
	}
	c.g.mu.Unlock()
	reply := c.g.Reach(c.ctx, r)
	c.g.mu.Lock()
	fmt.Fprint(c.out, reply.Out)
	fmt.Fprint(c.err, reply.Err)
	return reply.Exit
}

// option returns the value of an option of one letter, and the words without it.
func option(args []string, name string) (value string, rest []string) {
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == name && i+1 < len(args):
			value = args[i+1]
			i++
		case strings.HasPrefix(args[i], name) && len(args[i]) > len(name):
			value = args[i][len(name):]
		default:
			rest = append(rest, args[i:]...)
			return value, rest
		}
	}
	return value, rest
}

// mostPings is how many packets ping sends at most.
const mostPings = 10

func ping(c call) int {
	text, rest := option(c.args, "-c")
	count, err := strconv.Atoi(text)
	if text != "" && err != nil || text == "" {
		count = 3
	}
	c.args = rest
	w := c.words()
	if len(w) != 1 {
		return c.fail(2, "ping: takes a machine or an address")
	}
	return c.reach(Request{Kind: "ping", Target: w[0], Count: max(1, min(count, mostPings))})
}

func ssh(c call) int {
	args := c.args
	var port, login string
	for {
		before := len(args)
		var text string
		if text, args = option(args, "-p"); text != "" {
			port = text
		}
		if text, args = option(args, "-l"); text != "" {
			login = text
		}
		if len(args) > 1 && args[0] == "-i" { // any key in the user's folder is tried
			args = args[2:]
		}
		if len(args) == before {
			break
		}
	}
	if len(args) == 0 || strings.HasPrefix(args[0], "-") {
		return c.fail(255, "ssh: takes a machine and a command; -p and -l besides")
	}
	target := args[0]
	if user, host, ok := strings.Cut(target, "@"); ok {
		login, target = user, host
	}
	if login == "" {
		login = User
	}
	if len(args) == 1 {
		return c.fail(255, "ssh: from here it takes a command: ssh %s COMMAND", target)
	}
	at, err := strconv.Atoi(port)
	if port != "" && err != nil {
		return c.fail(255, "ssh: %s is no port", port)
	}
	if port == "" {
		at = 22
	}
	home := "/home/" + c.user
	if c.user == "root" {
		home = "/root"
	}
	var keys []string
	for name, text := range c.g.Files {
		if strings.HasPrefix(name, home+"/.ssh/") && strings.Contains(text, "PRIVATE KEY") {
			keys = append(keys, text)
		}
	}
	return c.reach(Request{Kind: "ssh", Target: target, Port: at, User: login, Keys: keys, Line: strings.Join(args[1:], " ")})
}

func curl(c call) int {
	w := c.words()
	if len(w) != 1 {
		return c.fail(2, "curl: takes one address")
	}
	scheme, rest, ok := strings.Cut(w[0], "://")
	if !ok {
		scheme, rest = "http", w[0]
	}
	port := map[string]int{"http": 80, "https": 443}[scheme]
	if port == 0 {
		return c.fail(1, "curl: %s is no protocol that is known here", scheme)
	}
	host, at, _ := strings.Cut(rest, "/")
	if h, p, found := strings.Cut(host, ":"); found && !strings.Contains(p, ":") {
		n, err := strconv.Atoi(p)
		if err != nil {
			return c.fail(3, "curl: %s is no port", p)
		}
		host, port = h, n
	}
	return c.reach(Request{Kind: scheme, Target: strings.Trim(host, "[]"), Port: port, Path: "/" + at})
}
