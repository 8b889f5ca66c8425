package cli

import (
	"fmt"
	"log/slog"
	"net/url"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"oakbarrel/service"
	"oakbarrel/unit"
)

// heapGrowth is by how much the service's heap grows before it is cleaned, in percent: half
// of what is usual takes a quarter less memory for agents that wait, and no time that
// could be measured of what they send.
const heapGrowth = 50

func (a *app) serveCommand() *cobra.Command {
	var options service.Options
	var databaseFile string
	c := &cobra.Command{
		Use:   "serve",
		Short: "Keep the records of many hosts, in the foreground",
		Long: `Keep the records of many hosts in a MariaDB database, in the foreground. The
service keeps no file of its own.

"ready" alone on a line on stdout says that it can be asked; its own log goes to
stderr. The database is named by a DSN, USER:PASSWORD@tcp(HOST:PORT)/DATABASE,
in a file or in OAKBARREL_DATABASE; those of the nodes of one cluster stand there
a line each.`,
		Example: `  oakbarrel serve --database-file /etc/oakbarrel/database
  oakbarrel serve --listen :8440 --database-file /etc/oakbarrel/database --certificate lantern.pem --key lantern.key`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if (options.Certificate == "") != (options.Key == "") {
				return usageError("--certificate and --key go together")
			}
			if options.Link, err = consoleLink(options.Link); err != nil {
				return err
			}
			if options.DSN, err = readDSN(databaseFile); err != nil {
				return err
			}
			debug.SetGCPercent(heapGrowth)
			options.Log = slog.New(slog.NewTextHandler(a.stderr, nil))
			options.Unit = unit.Open()
			options.Ready = func(string) { fmt.Fprintln(a.stdout, "ready") }
			if err = service.Run(c.Context(), options); err != nil {
				options.Unit.Rest(c.Context(), err)
			}
			return couldNot(err)
		},
	}
	c.Flags().StringVar(&options.Listen, "listen", "127.0.0.1:8440", "address to listen on")
	databaseFlag(c, &databaseFile)
	c.Flags().StringVar(&options.Certificate, "certificate", "", "file of the certificate, for https")
	c.Flags().StringVar(&options.Key, "key", "", "file of the certificate's key")
	c.Flags().StringVar(&options.Metrics, "metrics", "", "address where the service's figures are served as OpenMetrics, such as 127.0.0.1:9441; by default nowhere")
	c.Flags().StringVar(&options.Link, "link", "", "address of the console as people reach it, such as https://logs.lantern.example; notices lead there")
	return c
}

// consoleLink checks the address of the console.
func consoleLink(text string) (string, error) {
	if u, err := url.Parse(text); text != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.User != nil) {
		return "", usageError("--link cannot be %q; write https://HOST, as people reach the console", text)
	}
	return strings.TrimRight(text, "/"), nil
}
