package run

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/devices"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/collect"
)

// sendReport posts a report and tells where its device stands.
func sendReport(ctx context.Context, a *shell.App, raw []byte) error {
	cl, err := a.Client()
	if err != nil {
		return err
	}
	got, err := cl.PostEvidence(ctx, api.PostEvidenceParams{}, "application/x-ndjson",
		bytes.NewReader(append(raw, '\n')))
	if err != nil {
		return err
	}
	if a.Format == "table" {
		for _, t := range got.Value.Results {
			if t.Device != "" {
				shell.Line(a.Out, "%s stands at %s.", t.Device, a.Bold(t.Level))
			}
		}
	}
	return devices.Imported(a, got)
}

// CollectCmd is the command collect.
func CollectCmd(a *shell.App) *cobra.Command {
	var o collect.Options
	root, certs, send, set := "/", "", false, []string{}
	c := &cobra.Command{
		Use: "collect", Short: "Report on the Linux machine this runs on",
		Long: `Report on the Linux machine this runs on: its platform, system version, encryption
of the system volume (dm-crypt), secure boot, security chip, firewall, and the
certificates in a folder. It reads files alone; run as root it can read the
serial. What it cannot know is reported as unavailable, with the reason.

Without --send the report is printed; with it, it is posted to the service.`,
		Example: `  ironledger collect
  ironledger collect --certs /etc/ironledger/certs --owner maren.holt@gullholm.example --send
  ironledger collect --set custom.dock='"north quay"' -o json | ironledger device import -`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if runtime.GOOS != "linux" && root == "/" {
				return errors.New("collect reads Linux machines alone; give --root for the tree of one")
			}
			var err error
			if o.Set, err = shell.Named(set); err != nil {
				return err
			}
			if certs != "" {
				o.Certificates = os.DirFS(certs)
			}
			r, err := collect.Linux(os.DirFS(root), o, time.Now())
			if err != nil {
				return err
			}
			raw, err := json.Marshal(r)
			if err != nil {
				return err
			}
			if send {
				return sendReport(cmd.Context(), a, raw)
			}
			l := shell.Listing{Head: []string{"ATTRIBUTE", "READING"}, Raw: json.RawMessage(raw)}
			for _, name := range slices.Sorted(maps.Keys(r.Evidence)) {
				l.Rows = append(l.Rows, []string{name, reading(a, r.Evidence[name])})
			}
			if a.Format == "table" {
				for _, k := range slices.Sorted(maps.Keys(r.Identity)) {
					shell.Line(a.Out, "%s %s", k, a.Bold(r.Identity[k]))
				}
			}
			return a.Print(l)
		},
	}
	f := c.Flags()
	f.BoolVar(&send, "send", false, "post the report to the service")
	f.StringVar(&o.Source, "source", "agent", "the source to report as")
	f.StringVar(&o.ID, "id", "", "the device's id (default: told by its serial or hardware id)")
	f.StringVar(&o.Owner, "owner", "", "the person whose device this is")
	f.StringVar(&certs, "certs", "", "a folder of certificates (PEM or DER) to report")
	f.StringArrayVar(&set, "set", nil, "an attribute that you know, as NAME=JSON; may be repeated")
	f.StringVar(&root, "root", "/", "the tree to read, for another machine's files")
	return c
}

// reading tells a collected value in a line.
func reading(a *shell.App, v any) string {
	if u, ok := v.(collect.Unavailable); ok {
		return a.Dim("unavailable: " + u.Why)
	}
	if list, ok := v.([]map[string]string); ok {
		return fmt.Sprintf("%d certificates", len(list))
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return shell.Clip(strings.Trim(string(raw), `"`), 100)
}
