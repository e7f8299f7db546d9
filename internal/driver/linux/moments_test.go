package linux

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// TestTheKernelTurnsWhenTheAnalysisDoes builds random estates shortly before something begins or
// ends, and sends packets that it concerns until shortly after. Each lies between two readings
// of the clock, and counts where both are on one side.
func TestTheKernelTurnsWhenTheAnalysisDoes(t *testing.T) {
	needRoot(t)
	before, after, turns := 0, 0, 0
	for seed := 1; turns < moreInTruth(3, 20) && seed < 200; seed++ {
		w := rapid.Custom(oracle.Draw).Example(seed)
		list := w.Plan().Turns(oracle.Epoch)
		if len(list) == 0 {
			continue
		}
		turn := list[seed%len(list)]
		plan := w.Plan()
		was, becomes := exposure.NewView(plan, turn.Add(-1)), exposure.NewView(plan, turn)
		var packets []driver.Packet
		for _, p := range drawPackets(w, plan, 400, seed) {
			a, ok1 := saysOf(was, p)
			b, ok2 := saysOf(becomes, p)
			if ok1 && ok2 && a != b && len(packets) < 8 {
				packets = append(packets, p)
			}
		}
		if len(packets) == 0 {
			continue
		}
		turns++
		t.Run(fmt.Sprint("seed=", seed), func(t *testing.T) {
			b, at := builtBefore(t, w, turn)
			var mu sync.Mutex
			var all sync.WaitGroup
			for _, p := range packets {
				first, _ := saysOf(was, p)
				all.Go(func() {
					// On a busy computer an answer may take longer than anybody waits for it here; where it
					// is closed none ever comes.
					tried, came := 0, 0
					for time.Now().Before(at.Add(slow())) {
						time.Sleep(20 * time.Millisecond) // a machine tells so many a second that nothing listens, and no more
						began := time.Now()
						got, err := b.once(p)
						ended := time.Now()
						open := first
						mu.Lock()
						assert.NoError(t, err)
						switch {
						case ended.Before(at):
							before++
						case !began.Before(at):
							after++
							open = !first
						default: // the turn lies within
							mu.Unlock()
							continue
						}
						if open {
							tried++
						}
						if got {
							came++
							assert.True(t, open, "%v, %v after the turn of\n%v", p, began.Sub(at), w.Text)
						}
						mu.Unlock()
					}
					assert.True(t, tried < 5 || came > 0, "%v never got through in\n%v", p, w.Text)
				})
			}
			all.Wait()
		})
	}
	t.Logf("%d turns, %d packets before and %d after", turns, before, after)
	require.Greater(t, min(before, after), 50)
}

// builtBefore builds an estate, and returns when a turn of its plan comes: in a second or more. On a busy computer it takes more than one try.
func builtBefore(t *testing.T, w oracle.World, turn time.Time) (*built, time.Time) {
	for lead := 3 * slow(); ; lead *= 2 {
		b := build(t, w, turn.Add(-lead))
		at := turn.Add(-b.by)
		if time.Now().Before(at.Add(-time.Second)) {
			return b, at
		}
		require.Less(t, lead, time.Minute, "it took too long to build")
	}
}

// once sends a packet a single time. No host answers at addresses outside, so it looks for a machine's call there on the way out.
func (b *built) once(p driver.Packet) (got bool, err error) {
	if b.owner[p.Source] != "" && b.plan.Internet().Contains(flow.PointOf(p.Target)) {
		return b.s.leaves(context.Background(), b.namespace(p.Source), p, false)
	}
	err = within(b.namespace(p.Source), func() error {
		got, err = send(context.Background(), p, slow()/10)
		return err
	})
	return got, err
}

// slow is a second, or as many as IRONBARK_TRUTH_SLOW says: in an emulated machine all takes longer.
func slow() time.Duration {
	n, err := strconv.Atoi(os.Getenv("IRONBARK_TRUTH_SLOW"))
	if err != nil {
		n = 1
	}
	return time.Duration(n) * time.Second
}

// moreInTruth chooses how much is tried in the ordinary run and in a long one.
func moreInTruth(ordinary, long int) int {
	if os.Getenv("IRONBARK_TRUTH") != "" {
		return long
	}
	return ordinary
}

// TestInTheMiddleOfAnEnactment puts one plan in place of another and back, with what both
// have in common between, while packets are sent: what both let pass always gets through, and
// what neither does never.
func TestInTheMiddleOfAnEnactment(t *testing.T) {
	needRoot(t)
	sent := map[bool]int{}
	for seed := 1; seed <= moreInTruth(12, 60); seed++ {
		w := rapid.Custom(oracle.Draw).Example(seed)
		moment := oracle.Epoch.Add(21 * time.Minute)
		t.Run(fmt.Sprint("seed=", seed), func(t *testing.T) {
			b := build(t, w, moment)
			one := b.plan.WithoutOpenings(func(int64) bool { return true })
			// The other says every second thing of the first.
			other := shifted(one, 0)
			half := func(list []flow.Rule) (kept []flow.Rule) {
				for i, r := range list {
					if i%2 == 0 {
						kept = append(kept, r)
					}
				}
				return kept
			}
			other.Rules, other.Outward = half(other.Rules), half(other.Outward)
			common := flow.Intersection(one, other)
			var rules []flow.Rule
			for _, r := range b.plan.Rules {
				if r.Kind == flow.Opening {
					rules = append(rules, r)
				}
			}
			views := [2]*exposure.View{exposure.NewView(b.plan, time.Now()), exposure.NewView(other.With(rules...), time.Now())}
			stop := make(chan struct{})
			var all, writer sync.WaitGroup
			writer.Go(func() {
				for {
					for _, plan := range []*flow.Plan{other, common, one, common} {
						select {
						case <-stop:
							return
						default:
							b.install(t, plan)
						}
					}
				}
			})
			var mu sync.Mutex
			room := make(chan struct{}, 16)
			closed := 0
			for _, p := range drawPackets(w, b.plan, 80, seed) {
				want, ok1 := saysOf(views[0], p)
				also, ok2 := saysOf(views[1], p)
				if !ok1 || !ok2 || want != also || !want && closed == 20 {
					continue
				}
				if !want {
					closed++
				}
				all.Go(func() {
					room <- struct{}{}
					defer func() { <-room }()
					got, err := b.gets(p, want)
					mu.Lock()
					defer mu.Unlock()
					assert.NoError(t, err)
					assert.Equal(t, want, got, "%v in\n%s", p, w.Text)
					sent[want]++
				})
			}
			all.Wait()
			close(stop)
			writer.Wait()
		})
	}
	t.Logf("%d packets that both let pass, %d that neither does", sent[true], sent[false])
	require.Greater(t, min(sent[true], sent[false]), 20)
}
