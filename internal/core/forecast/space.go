package forecast

import (
	"math/big"

	"sternledger/internal/core/setting"
)

// Sizes of the classes of printable ASCII characters: lower case, upper case,
// digits, the rest with the space.
var Sizes = [4]int64{26, 26, 10, 33}

// Rules are what is asked of the characters of a password.
type Rules struct {
	Least   [4]int64 // of lower case, upper case, digits, symbols
	Classes int64    // how many of them must occur
}

// windowsClasses is how many classes complexity asks for.
const windowsClasses = 3

// RulesOf reads the rules of a policy. What is not set asks for nothing: the
// figure is then an upper bound.
func RulesOf(p Policy) Rules {
	var r Rules
	for i, id := range []setting.ID{setting.RequireLower, setting.RequireUpper, setting.RequireDigit, setting.RequireSymbol} {
		r.Least[i], _ = p(id).Number()
	}
	r.Classes, _ = p(setting.ClassesRequired).Number()
	if p(setting.Complexity) == setting.On {
		r.Classes = max(r.Classes, windowsClasses)
	}
	r.Classes = min(r.Classes, int64(len(Sizes)))
	return r
}

// Space returns the exact number of passwords of that length that the rules
// let in, of printable ASCII characters. It adds class by class: of the n
// characters so far, k of the new class can stand at any of the places.
func Space(length int64, r Rules) *big.Int {
	n := int(length)
	// ways[c][k]: strings of k characters of the classes so far, c of which
	// occur.
	ways := make([][]*big.Int, len(Sizes)+1)
	for c := range ways {
		ways[c] = make([]*big.Int, n+1)
		for k := range ways[c] {
			ways[c][k] = new(big.Int)
		}
	}
	ways[0][0].SetInt64(1)
	rows := pascal(n)
	term := new(big.Int)
	for i, size := range Sizes {
		powers := make([]*big.Int, n+1)
		powers[0] = big.NewInt(1)
		for k := 1; k <= n; k++ {
			powers[k] = new(big.Int).Mul(powers[k-1], big.NewInt(size))
		}
		next := make([][]*big.Int, len(ways))
		for c := range next {
			next[c] = make([]*big.Int, n+1)
			for k := range next[c] {
				next[c][k] = new(big.Int)
			}
		}
		for c := range ways {
			for have, count := range ways[c] {
				if count.Sign() == 0 {
					continue
				}
				for more := int(max(r.Least[i], 0)); have+more <= n; more++ {
					occurs := c
					if more > 0 {
						occurs++
					}
					if occurs >= len(next) {
						continue
					}
					term.Mul(count, powers[more])
					term.Mul(term, rows[have+more][more])
					next[occurs][have+more].Add(next[occurs][have+more], term)
				}
			}
		}
		ways = next
	}
	total := new(big.Int)
	for c := int(r.Classes); c < len(ways); c++ {
		total.Add(total, ways[c][n])
	}
	return total
}

// pascal returns the binomial coefficients up to n.
func pascal(n int) [][]*big.Int {
	rows := make([][]*big.Int, n+1)
	for i := range rows {
		rows[i] = make([]*big.Int, i+1)
		rows[i][0], rows[i][i] = big.NewInt(1), big.NewInt(1)
		for k := 1; k < i; k++ {
			rows[i][k] = new(big.Int).Add(rows[i-1][k-1], rows[i-1][k])
		}
	}
	return rows
}
