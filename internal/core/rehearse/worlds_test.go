package rehearse

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"sternledger/internal/core/forecast"
	"sternledger/internal/core/setting"
	"sternledger/internal/worldtest"
)

// TestWorlds plays testdata/worlds.txt: what many timelines come to on a platform.
//
//	on PLATFORM SETTING VALUE …: so many timelines of nine tries each, close to the lock's own times
//
// A try is w(rong), r(ight) or o(ld); an event is f(ailure), s(uccess), r(efused),
// LOCK, OPEN, zero (the count restarts) or OLD (not counted), with the count behind.
func TestWorlds(t *testing.T) {
	short := map[Kind]string{Failure: "f", Success: "s", Refused: "r", Locked: "LOCK", Opened: "OPEN", Restarts: "zero", Uncounted: "OLD"}
	worldtest.Play(t, "worlds.txt", func(t *testing.T, lines []string) (said []string) {
		for _, line := range lines {
			f := strings.Fields(line)
			platform, settings := setting.Platform(f[1]), strings.Join(f[2:], " ")
			rnd := rand.New(rand.NewPCG(uint64(len(line)), 1))
			said = append(said, line)
			for range 12 {
				var into []SignIn
				var tries, events []string
				now := int64(0)
				for range 9 {
					now += []int64{0, 0, 1, 9, 10, 11, 20, 30}[rnd.IntN(8)]
					with := []Password{Wrong, Wrong, Wrong, Right, Old}[rnd.IntN(5)]
					into = append(into, SignIn{now, with})
					tries = append(tries, fmt.Sprintf("%d%c", now, "wro"[with]))
				}
				all := Play(forecast.LockoutOf(platform, policy(settings)), into)
				for _, e := range all {
					events = append(events, fmt.Sprintf("%d%s%d", e.Seconds, short[e.Kind], e.Count))
				}
				said = append(said, "  "+strings.Join(tries, " ")+": "+strings.Join(events, " "), fmt.Sprintf("    %+v", Summed(all)))
			}
		}
		return said
	})
}
