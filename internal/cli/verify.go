package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/client"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/store"
)

func (a *app) ledgerVerifyCmd() *cobra.Command {
	var key, file, data string
	c := &cobra.Command{
		Use: "verify", Short: "Check every entry, the tree, the signature, and that devices stand where entries put them", Args: cobra.NoArgs,
		Long: `Check the whole ledger: that no entry was changed, removed, added or moved, that
numbers and time run forward, that the signed head is that of these entries, that
it goes on from the head seen before, and that every device stands where its
newest entry put it.

With a service, this client reads the ledger and computes everything itself. With
--file it checks an export with no service; with --data the records of a service
on its own machine, whether it runs or not.

Exit code 3 says that something is wrong; each problem names its entry.`,
		Example: "  ironledger ledger verify\n  ironledger ledger verify --file ledger.ndjson --key ledger.pub\n  sudo ironledger ledger verify --data /var/lib/ironledger",
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case file != "":
				return a.verifyFile(file, key)
			case data != "":
				return a.verifyData(cmd.Context(), data)
			}
			return a.verifyService(cmd.Context(), key)
		},
	}
	addKeyFlag(c, &key)
	c.Flags().StringVar(&file, "file", "", "an export, or - for standard input")
	c.Flags().StringVar(&data, "data", "", "the folder of the records")
	c.MarkFlagsMutuallyExclusive("file", "data")
	return c
}

// verified tells what a verification came to.
func (a *app) verified(v audit.Verification, signer string) error {
	if a.format != "table" {
		rows := [][]string{}
		for _, p := range v.Problems {
			rows = append(rows, []string{fmt.Sprint(p.Seq), p.Message})
		}
		if err := a.print(listing{head: []string{"ENTRY", "PROBLEM"}, raw: v, rows: rows}); err != nil {
			return err
		}
	} else if len(v.Problems) == 0 {
		rate := ""
		if v.Millis > 100 {
			rate = fmt.Sprintf(", %s a second", counted(v.Size*1000/v.Millis))
		}
		line(a.out, "%s %s entries, signed by %s (%s%s).", a.bold("Sound:"), counted(v.Size), signer,
			time.Duration(v.Millis)*time.Millisecond, rate)
		if v.Devices > 0 {
			line(a.out, "%s devices stand where their entries put them.", counted(int64(v.Devices)))
		}
		if v.Redacted > 0 {
			line(a.out, "%d bodies were redacted, each with an entry that tells why.", v.Redacted)
		}
	} else {
		for _, p := range v.Problems {
			line(a.out, "%s %s", a.rust("✗"), p)
		}
		if v.More > 0 {
			line(a.out, "and %d more", v.More)
		}
		line(a.out, "%s the ledger is not what was recorded.", a.rust("Broken:"))
	}
	if len(v.Problems) > 0 {
		return errNo
	}
	return nil
}

func resultOf(w *ledger.Verifier, begun time.Time) audit.Verification {
	v := audit.Verification{State: "sound", At: time.Now().UTC().Format(time.RFC3339), Size: w.Size(),
		Of: w.Size(), Redacted: w.Redacted, Millis: time.Since(begun).Milliseconds(), Problems: w.Problems,
		More: w.More}
	if v.Problems == nil {
		v.Problems = []ledger.Problem{}
	}
	if len(v.Problems) > 0 {
		v.State = "broken"
	}
	return v
}

func (a *app) verifyFile(path, key string) error {
	if key == "" {
		return usageError{errors.New("--file needs --key, the ledger's public key or a file that holds it")}
	}
	verifier, err := keyOf(key)
	if err != nil {
		return err
	}
	f, err := a.open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	begun := time.Now()
	w := &ledger.Verifier{}
	bar := a.walked(-1, "entries")
	checkpoint, err := client.EachLine(f, func(l *ledger.Line) error { w.Add(l); bar.add(1); return nil })
	bar.done()
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if checkpoint == nil {
		w.End(nil)
		w.Problems = append(w.Problems,
			ledger.Problem{Message: "the file ends without the signed head: it was cut"})
		return a.verified(resultOf(w, begun), "")
	}
	head, err := ledger.OpenHead(checkpoint, verifier)
	if err != nil {
		w.End(nil)
		w.Problems = append(w.Problems, ledger.Problem{Message: err.Error()})
		return a.verified(resultOf(w, begun), "")
	}
	w.End(&head)
	return a.verified(resultOf(w, begun), head.Origin)
}

func (a *app) verifyData(ctx context.Context, dir string) error {
	key, err := store.ReadKey(engine.KeyPath(dir))
	if err != nil {
		return err
	}
	records, err := store.OpenReader(engine.DatabasePath(dir))
	if err != nil {
		return err
	}
	bar := a.walked(-1, "entries")
	last := int64(0)
	v, err := audit.VerifyRecords(ctx, records, key.Verifier,
		audit.VerifyOptions{File: true, Progress: func(done, of int64) {
			bar.of(of)
			bar.add(done - last)
			last = done
		}})
	bar.done()
	if err = errors.Join(err, records.Close()); err != nil {
		v = &audit.Verification{State: "broken", Problems: []ledger.Problem{{Message: err.Error()}}}
	}
	return a.verified(*v, key.Verifier.Name())
}

func (a *app) verifyService(ctx context.Context, key string) error {
	cl, w, before, err := a.watch(ctx, key)
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
					ledger.Problem{Seq: size, Message: fmt.Sprintf("device %s stood at %s, and the entries say %q", device, level, said)})
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
	bar := a.walked(w.Head.Size, "entries")
	checkpoint, err := client.EachLine(body, func(l *ledger.Line) error {
		walk.Add(l)
		if walk.Size() == size {
			compare()
		}
		bar.add(1)
		return nil
	})
	bar.done()
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
	return a.verified(v, head.Origin)
}
