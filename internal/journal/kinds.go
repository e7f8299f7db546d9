package journal

// Kinds are the kinds of entries: what stands in [Entry.Action].
var Kinds = []string{
	"account", "adopt", "alter", "approve", "ask", "begin", "break", "clock", "close", "connections", "console", "cut", "decline", "drift", "enact", "end", "extend", "gateway",
	"make", "narrow", "open", "password", "refuse", "remove", "restart", "session", "session-end", "spread", "start", "stop", "tables",
}
