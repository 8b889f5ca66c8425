package fleet

import (
	"fmt"
	"strconv"
	"strings"
)

// Wave says how many hosts have a revision once the wave is through.
type Wave struct {
	Hosts   int     // so many, where it is not a share
	Percent float64 // of all, 0 for a number
}

// mostWaves bounds a roll-out.
const mostWaves = 20

// ParseWaves reads waves, such as "1, 10%, all": one host, then a tenth of all, then
// all. Each goes further than the one before; the last comes to all.
func ParseWaves(text string) (waves []Wave, err error) {
	for _, word := range strings.Split(text, ",") {
		word = strings.ToLower(strings.TrimSpace(word))
		w := Wave{Percent: 100}
		if share, isShare := strings.CutSuffix(word, "%"); isShare {
			w.Percent, err = strconv.ParseFloat(strings.TrimSpace(share), 64)
			if err != nil || !(w.Percent > 0 && w.Percent <= 100) {
				return nil, fmt.Errorf("%q is no share of the hosts; write a share above 0%% and up to 100%%", word)
			}
		} else if word != "all" {
			n, err := strconv.Atoi(word)
			if err != nil || n < 1 || n > 1_000_000 {
				return nil, fmt.Errorf("%q is no wave; write a number of hosts, a share or all, such as 1, 10%%, all", word)
			}
			w = Wave{Hosts: n}
		}
		waves = append(waves, w)
	}
	if last := waves[len(waves)-1]; last.Percent != 100 {
		waves = append(waves, Wave{Percent: 100})
	}
	if len(waves) > mostWaves {
		return nil, fmt.Errorf("there are %d waves; a roll-out has up to %d", len(waves), mostWaves)
	}
	return waves, nil
}

// Waves returns how many hosts each wave comes to of n hosts, the last n. Waves that
// would have none more than those before are left out.
func Waves(waves []Wave, n int) (sizes []int) {
	done := 0
	for _, w := range waves {
		upTo := w.Hosts
		if w.Percent > 0 {
			upTo = int(float64(n)*w.Percent/100 + 0.999999)
		}
		if upTo = min(upTo, n); upTo > done {
			sizes = append(sizes, upTo-done)
			done = upTo
		}
	}
	return sizes
}
