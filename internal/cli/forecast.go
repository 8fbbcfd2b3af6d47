package cli

import (
	"github.com/spf13/cobra"

	"sternledger/internal/assess"
	"sternledger/internal/contract"
	"sternledger/internal/core/forecast"
	"sternledger/internal/custody"
	"sternledger/internal/page"
)

func newForecast(s *shared) *cobra.Command {
	opt := assess.ForecastOptions{Assumptions: forecast.Usual}
	a := &opt.Assumptions
	var assumptions, routes bool
	cmd := &cobra.Command{
		Use:   "forecast",
		Short: "What the settings allow an attacker and ask of a user, in numbers",
		Long: `Says for each account scope what its settings come to: how many guesses an
attacker has for each account over an hour, a night, a weekend, 90 days and a
password's whole life, below the lock and into it, whichever is more; when a user can be back on the
old password; how many passwords of the least length there are; how often
changes are forced; what it takes to lock everybody out.

--routes says instead how likely it is, under stated assumptions, that somebody
gets in as an account of each scope within a year, and by which way: by an empty
password, guessed at sign-in, cracked from a stolen store, read back from it,
asked for and cracked, or known from elsewhere. It compares; it does not foretell.
--assumptions lists what that rests on; --exposure, or "exposure:" in
engagement.yaml, sets it.

--if shows what a change would come to, old beside new. Whatever the settings do
not say is assumed, stated, and can be set. With --scope, or --verbose, each figure
is told in words.`,
		Example: `  sternledger forecast
  sternledger forecast --scope "marrowick.example / Pilots"
  sternledger forecast --routes --exposure door=0.2
  sternledger forecast --scope "*Executives*" --if min-age=1d --if lockout-threshold=5 --if lockout-duration=until-admin`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			for name, v := range map[string]float64{"--online-rate": a.OnlineRate, "--offline-rate": a.OfflineRate,
				"--working-days": a.WorkingDays} {
				if v <= 0 {
					return usage("%s %v: expected a number above 0", name, v)
				}
			}
			for name, v := range map[string]float64{"--locks-per-year": a.LocksPerYear, "--sign-ins": a.SignIns} {
				if v < 0 {
					return usage("%s %v: expected 0 or more", name, v)
				}
			}
			if assumptions && routes {
				return usage("--assumptions and --routes show different things: choose one")
			}
			return s.inEngagement(cmd, func(e *custody.Engagement) error {
				if assumptions {
					now, err := e.Config.Assumptions(opt.Exposure)
					if err != nil {
						return err
					}
					return s.print(cmd, output{
						text:     func(sheet *page.Sheet) error { return page.Assumptions(sheet, now) },
						rows:     func() *page.Rows { return page.AssumptionRows(now) },
						document: func() any { return contract.NewExposureAssumptions(now) },
					})
				}
				f, err := assess.Forecast(e, opt)
				if err != nil {
					return err
				}
				return s.print(cmd, output{
					text: func(sheet *page.Sheet) error {
						if routes {
							return page.Routes(sheet, f)
						}
						return page.Forecast(sheet, f, s.verbose || opt.Scope != "")
					},
					rows: func() *page.Rows {
						if routes {
							return page.RouteRows(f)
						}
						return page.ForecastRows(f)
					},
					document: func() any { return f.Document() },
				})
			})
		},
	}
	cmd.Flags().BoolVar(&routes, "routes", false, "how likely somebody gets in as an account of each scope, and by which way")
	cmd.Flags().BoolVar(&assumptions, "assumptions", false, "what --routes and the worth of findings rest on, with sources")
	cmd.Flags().StringArrayVar(&opt.Exposure, "exposure", nil, "NAME=VALUE: another assumption")
	cmd.Flags().StringVar(&opt.Scope, "scope", "", "this scope, or those that fit a pattern (*, ?)")
	cmd.Flags().StringArrayVar(&opt.If, "if", nil, "SETTING=VALUE: what a change would come to")
	cmd.Flags().Float64Var(&a.OnlineRate, "online-rate", a.OnlineRate, "guesses a second where nothing locks")
	cmd.Flags().Float64Var(&a.OfflineRate, "offline-rate", a.OfflineRate, "guesses a second on a stolen hash")
	cmd.Flags().Float64Var(&a.LocksPerYear, "locks-per-year", a.LocksPerYear, "how often a user locks the account in a year")
	cmd.Flags().Float64Var(&a.WorkingDays, "working-days", a.WorkingDays, "working days in a year")
	cmd.Flags().Float64Var(&a.SignIns, "sign-ins", a.SignIns, "how often an account's owner signs in on a working day")
	s.addFormat(cmd)
	return cmd
}
