package setting_test

import (
	"fmt"

	"sternledger/internal/core/setting"
)

func ExampleSetting_Parse() {
	s := setting.Get("max-age")
	for _, text := range []string{"42 days", "6w", "never"} {
		v, err := s.Parse(text)
		if err != nil {
			fmt.Println(err)
			continue
		}
		fmt.Println(s.Text(v))
	}
	// Output:
	// 42 days
	// max-age "6w": not a value of this setting; expected a time with its unit, such as "15 minutes" or "42 days", or never
	// never expires
}

func ExampleSetting_Compare() {
	s := setting.Get("lockout-threshold")
	order, known := s.Compare(setting.Number(5), setting.Of(setting.Never))
	fmt.Println("five tries are stronger than no lock:", order > 0, known)
	// Output: five tries are stronger than no lock: true true
}
