package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/keyfile"
	"ironledger.example/internal/store"
)

func ledgerVerifyCmd(a *shell.App) *cobra.Command {
	var key, file, data string
	c := &cobra.Command{
		Use: "verify", Short: "Check every entry, the tree, the signature, and that devices stand where " +
			"entries put them", Args: cobra.NoArgs,
		Long: `Check the whole ledger: that no entry was changed, removed, added or moved, that
numbers and time run forward, that the signed head is that of these entries, that
it goes on from the head seen before, and that every device stands where its
newest entry put it.

With a service, this client reads the ledger and computes everything itself. With
--file it checks an export with no service; with --data the records of a service
on its own machine, whether it runs or not.

Exit code 3 says that something is wrong; each problem names its entry.`,
		Example: "  ironledger ledger verify\n  ironledger ledger verify --file ledger.ndjson --key " +
			"ledger.pub\n  sudo ironledger ledger verify --data /var/lib/ironledger",
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case file != "":
				return verifyFile(a, file, key)
			case data != "":
				return verifyData(cmd.Context(), a, data)
			}
			return verifyService(cmd.Context(), a, key)
		},
	}
	addKeyFlag(c, &key)
	c.Flags().StringVar(&file, "file", "", "an export, or - for standard input")
	c.Flags().StringVar(&data, "data", "", "the folder of the records")
	c.MarkFlagsMutuallyExclusive("file", "data")
	return c
}

// verified tells what a verification came to.
func verified(a *shell.App, v api.Verification, signer string) error {
	if a.Format != "table" {
		rows := [][]string{}
		for _, p := range v.Problems {
			rows = append(rows, []string{fmt.Sprint(p.Seq), p.Message})
		}
		if err := a.Print(shell.Listing{Head: []string{"ENTRY", "PROBLEM"}, Raw: v, Rows: rows}); err != nil {
			return err
		}
	} else if len(v.Problems) == 0 {
		rate := ""
		if v.Millis > 100 {
			rate = fmt.Sprintf(", %s a second", counted(v.Size*1000/v.Millis))
		}
		shell.Line(a.Out, "%s %s entries, signed by %s (%s%s).", a.Bold("Sound:"), counted(v.Size), signer,
			time.Duration(v.Millis)*time.Millisecond, rate)
		if v.Devices > 0 {
			shell.Line(a.Out, "%s devices stand where their entries put them.", counted(int64(v.Devices)))
		}
		if v.Redacted > 0 {
			shell.Line(a.Out, "%d bodies were redacted, each with an entry that tells why.", v.Redacted)
		}
		if v.Archived > 0 {
			shell.Line(a.Out, "%d bodies are in archives that entries tell of: ironledger ledger archive verify FILE "+
				"checks them.", v.Archived)
		}
	} else {
		for _, p := range v.Problems {
			shell.Line(a.Out, "%s %s", a.Rust("✗"), p)
		}
		if v.More > 0 {
			shell.Line(a.Out, "and %d more", v.More)
		}
		shell.Line(a.Out, "%s the ledger is not what was recorded.", a.Rust("Broken:"))
	}
	if len(v.Problems) > 0 {
		return shell.ErrNo
	}
	return nil
}

func resultOf(w *ledger.Verifier, begun time.Time) api.Verification {
	v := api.Verification{State: "sound", At: time.Now().UTC().Format(time.RFC3339), Size: w.Size(),
		Of: w.Size(), Redacted: w.Redacted, Archived: w.Archived, Millis: time.Since(begun).Milliseconds(), Problems: w.Problems,
		More: w.More}
	if v.Problems == nil {
		v.Problems = []ledger.Problem{}
	}
	if len(v.Problems) > 0 {
		v.State = "broken"
	}
	return v
}

func verifyFile(a *shell.App, path, key string) error {
	if key == "" {
		return shell.Usagef("--file needs --key, the ledger's public key or a file that holds it")
	}
	verifier, err := keyOf(key)
	if err != nil {
		return err
	}
	f, err := a.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	begun := time.Now()
	w := &ledger.Verifier{}
	bar := a.Walked(-1, "entries", "verifying")
	checkpoint, err := client.EachLine(f, func(l *ledger.Line) error { w.Add(l); bar.Add(1); return nil })
	bar.Done()
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if checkpoint == nil {
		w.End(nil)
		w.Problems = append(w.Problems,
			ledger.Problem{Message: "the file ends without the signed head: it was cut"})
		return verified(a, resultOf(w, begun), "")
	}
	head, err := ledger.OpenHead(checkpoint, verifier)
	if err != nil {
		w.End(nil)
		w.Problems = append(w.Problems, ledger.Problem{Message: err.Error()})
		return verified(a, resultOf(w, begun), "")
	}
	w.End(&head)
	return verified(a, resultOf(w, begun), head.Origin)
}

func verifyData(ctx context.Context, a *shell.App, dir string) error {
	key, err := keyfile.Read(engine.KeyPath(dir))
	if err != nil {
		return err
	}
	records, err := store.OpenReader(engine.DatabasePath(dir))
	if err != nil {
		return err
	}
	bar := a.Walked(-1, "entries", "verifying")
	last := int64(0)
	v, err := audit.VerifyRecords(ctx, records, key.Verifier,
		audit.VerifyOptions{File: true, Searches: true, Progress: func(done, of int64) {
			bar.Of(of)
			bar.Add(done - last)
			last = done
		}})
	bar.Done()
	if err = errors.Join(err, records.Close()); err != nil {
		v = &api.Verification{State: "broken", Problems: []ledger.Problem{{Message: err.Error()}}}
	}
	return verified(a, *v, key.Verifier.Name())
}

func verifyService(ctx context.Context, a *shell.App, key string) error {
	cl, w, before, err := watch(ctx, a, key)
	if err != nil {
		return err
	}
	begun := time.Now()
	walk := &ledger.Verifier{Standings: true}
	if before.Checkpoint != "" {
		if head, err := ledger.OpenHead([]byte(before.Checkpoint), w.Verifier); err == nil {
			walk.Expect(head)
		}
	}
	levels := map[string]string{}
	size, err := cl.Standings(ctx, func(device, level string) { levels[device] = level })
	if err != nil {
		return err
	}
	devices := 0
	compare := func() {
		for device, level := range levels {
			if said := walk.Level(device); said != level {
				walk.Problems = append(walk.Problems,
					ledger.Problem{Seq: size, Message: fmt.Sprintf("device %s stood at %s, and the entries say "+
						"%q", device, level, said)})
				continue
			}
			devices++
		}
	}
	body, err := cl.ExportLedger(ctx, api.ExportLedgerParams{Format: "ndjson"})
	if err != nil {
		return err
	}
	defer body.Close()
	bar := a.Walked(w.Head.Size, "entries", "verifying")
	checkpoint, err := client.EachLine(body, func(l *ledger.Line) error {
		walk.Add(l)
		if walk.Size() == size {
			compare()
		}
		bar.Add(1)
		return nil
	})
	bar.Done()
	if err != nil {
		return fmt.Errorf("the entries of %s: %w", cl.URL(), err)
	}
	head, err := ledger.OpenHead(checkpoint, w.Verifier)
	if err != nil {
		return w.Alarm(err)
	}
	walk.End(&head)
	v := resultOf(walk, begun)
	v.Devices = devices
	return verified(a, v, head.Origin)
}
