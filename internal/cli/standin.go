package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/signal"
	"path"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"sternledger/demo"
	"sternledger/internal/custody"
	"sternledger/internal/standin"
)

// samples are the folders of the sample engagement that hold the exports of a
// field map's product.
var samples = map[string]string{"directory-tenant": "office", "identity-provider": "helm", "workplace-suite": "papers"}

func newStandIn(s *shared) *cobra.Command {
	var listen, mapID string
	var opt standin.Options
	var during time.Duration
	cmd := &cobra.Command{
		Use:   "tenant-stand-in",
		Short: "An invented cloud tenant on loopback, to try live collection on",
		Long: `Serves an invented tenant of the Marrowick Harbour Authority on this machine,
with the addresses and replies of a real one: tokens, pages, and, on demand,
requests for patience. It takes the requests of change files, too (amend), for as
long as it runs. It prints how to gather it, and ends when it is
interrupted. It listens on loopback and nowhere else.`,
		Example: `  sternledger tenant-stand-in --for 1s
  sternledger tenant-stand-in --map identity-provider --page-size 2 --throttle 3 --for 1s`,
		Args: none,
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, ok := samples[mapID]
			if !ok {
				return usage("--map %q: there is a sample for directory-tenant, identity-provider, workplace-suite", mapID)
			}
			var err error
			if opt.Map, err = custody.ShippedFieldMap(mapID); err != nil {
				return err
			}
			if opt.Exports, err = fs.Sub(demo.Files, path.Join("exports", folder)); err != nil {
				return err
			}
			server, err := standin.Listen(listen, opt)
			if err != nil {
				return err
			}
			defer server.Close()
			shown := "STERNLEDGER_CLIENT_SECRET=" + server.Secret
			if server.Secret == "" {
				file, err := keyFile(server.Key)
				if err != nil {
					return err
				}
				defer os.Remove(file)
				shown = "STERNLEDGER_CLIENT_KEY=" + file
			}
			more := ""
			for _, id := range slices.Sorted(maps.Keys(server.Interfaces)) {
				more += " --interface " + id + "=" + server.Interfaces[id]
			}
			fmt.Fprintf(cmd.OutOrStdout(),
				"An invented tenant answers at %s. To gather it:\n\n  export STERNLEDGER_CLIENT_ID=%s %s\n  sternledger gather %s --map %s "+
					"--certificate %s%s\n",
				server.Address, server.Client, shown, server.Address, mapID, server.Certificate, more)
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			if during > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, during)
				defer cancel()
			}
			<-ctx.Done()
			return nil
		},
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address of loopback to listen at; port 0 takes a free one")
	cmd.Flags().StringVar(&mapID, "map", "directory-tenant", "field map of the product to stand in for")
	cmd.Flags().IntVar(&opt.PageSize, "page-size", 4, "entries on a page; 0 puts all on one")
	cmd.Flags().IntVar(&opt.Throttle, "throttle", 0, "ask every so many-th request for patience; 0 asks none")
	cmd.Flags().DurationVar(&during, "for", 0, "end after this time; 0 waits to be interrupted")
	return cmd
}

// keyFile writes the invented client's key where gather can read it.
func keyFile(key []byte) (string, error) {
	f, err := os.CreateTemp("", "stand-in-*.pem") // for this user alone
	if err != nil {
		return "", err
	}
	_, err = f.Write(key)
	return f.Name(), errors.Join(err, f.Close())
}
