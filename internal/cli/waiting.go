package cli

import (
	"fmt"
	"sync"
	"time"
)

// quietTime is how long a command may wait before it says what it waits for.
const quietTime = time.Second

// waitingFor says what is waited for, once that takes longer than [quietTime]. The caller must call done when it is over.
func (a *app) waitingFor(format string, args ...any) (done func()) {
	if a.json {
		return func() {}
	}
	var mu sync.Mutex // so that nothing is said once done has returned
	over := false
	timer := time.AfterFunc(quietTime, func() {
		mu.Lock()
		defer mu.Unlock()
		if !over {
			a.print.NoteWrap("waiting  ", fmt.Sprintf(format, args...))
		}
	})
	return func() {
		timer.Stop()
		mu.Lock()
		defer mu.Unlock()
		over = true
	}
}
