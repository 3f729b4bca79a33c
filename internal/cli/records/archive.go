package records

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

func ledgerArchiveCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "archive",
		Short: "Move what old entries say into signed files, and read them: make, list, place, verify, show",
		Long: `Move what old entries say into signed files, and read them. The number, time, kind, subject and hash
of each entry stay in the service, with its proof; its body is in the file, which can be
verified by itself with the ledger's public key.`}
	c.AddCommand(archiveMakeCmd(a), archiveListCmd(a), archivePlaceCmd(a), archiveVerifyCmd(a), archiveShowCmd(a))
	return c
}

var archiveHead = []string{"ARCHIVE", "ENTRIES", "BEFORE", "SIZE", "MADE", "BY", "WHERE"}

func archiveRow(x api.Archive) []string {
	where := x.Place
	if x.Here {
		where = strings.TrimPrefix(where+"; in the service's folder", "; ")
	}
	if where == "" {
		where = "not in the service's folder any more"
	}
	if !x.Done {
		where += " (bodies are still giving way)"
	}
	return []string{x.ID, fmt.Sprintf("%d–%d", x.From, x.To), shell.ShortTime(x.Before), shell.Bytes(x.Bytes),
		shell.ShortTime(x.At), x.By, where}
}

func archiveMakeCmd(a *shell.App) *cobra.Command {
	d := api.ArchiveDraft{}
	c := &cobra.Command{
		Use: "make --before MOMENT --reason REASON", Short: "Move the bodies of entries before a moment into a file",
		Args: cobra.NoArgs,
		Long: `Move the bodies of entries before a moment into a file, in the folder "archives" of the
service's records. The file is read again and proved before any body gives way. Entries of
the last 90 days stay (longer, where the past is kept longer), and so do those that a stream
has not passed on. Copy the file to where it is kept, and note that with "archive place".`,
		Example: `  ironledger ledger archive make --before 400d --reason "kept for a year and a month"
  ironledger ledger archive make --before 2026-01-01T00:00:00Z --reason "the books of 2025 are closed"`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if d.Before, err = agoOr(d.Before); err != nil {
				return err
			}
			if _, err := cl.MakeArchive(cmd.Context(), d); err != nil {
				return err
			}
			return awaitArchive(cmd.Context(), a, cl)
		},
	}
	c.Flags().StringVar(&d.Before, "before", "", "a moment, RFC 3339, or how long ago, as 400d")
	c.Flags().StringVar(&d.Reason, "reason", "", "why, which stays in the ledger")
	shell.Must(c.MarkFlagRequired("before"))
	shell.Must(c.MarkFlagRequired("reason"))
	return c
}

// agoOr reads a duration as the moment so long ago; other text stays.
func agoOr(text string) (string, error) {
	d, err := value.ParseDuration(text)
	if err != nil {
		if _, err := value.ParseTime(text); err != nil {
			return "", shell.Usagef("--before is a moment as 2026-01-01T00:00:00Z, or how long ago, as 400d, not %q", text)
		}
		return text, nil
	}
	return time.Now().UTC().Add(-time.Duration(d.Num()) * time.Microsecond).Format(time.RFC3339), nil
}

// awaitArchive follows the making of an archive to its end, and shows it.
func awaitArchive(ctx context.Context, a *shell.App, cl *client.Client) error {
	bar, last, step := a.Walked(-1, "entries", "archiving"), int64(0), ""
	defer bar.Done()
	for {
		got, err := cl.ListArchives(ctx)
		if err != nil {
			return err
		}
		p := got.Value.Progress
		if p == nil {
			return errors.New("the service was started anew before the archive was made; make it again")
		}
		switch p.State {
		case "failed":
			return errors.New(p.Problem)
		case "done":
			for i := range got.Value.Items {
				if x := got.Value.Items[i]; x.ID == p.Archive {
					if p.Held != "" {
						shell.Line(a.Err, "Not all of them: %s.", p.Held)
					}
					return madeArchive(a, x)
				}
			}
			return fmt.Errorf("the archive %s is made, and not listed", p.Archive)
		}
		if p.State != step {
			step, last = p.State, 0
			bar.Of(3 * p.Of)
		}
		bar.Add(p.Done - last)
		last = p.Done
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func madeArchive(a *shell.App, x api.Archive) error {
	if a.Format != "table" {
		return a.Print(shell.Listing{Head: archiveHead, Rows: [][]string{archiveRow(x)}, Raw: x})
	}
	shell.Line(a.Out, "%s has entries %d to %d; what %s of them say is in it alone now.", a.Bold(x.ID), x.From, x.To,
		counted(int64(x.Entries)))
	shell.Line(a.Out, "File    archives/%s in the service's folder, %s\nSHA-256 %s", x.File,
		shell.Bytes(x.Bytes), x.SHA256)
	shell.Line(a.Out, "Keep a copy elsewhere, check it (ironledger ledger archive verify), and note where it is:\n"+
		"  ironledger ledger archive place %s 'the safe in the harbour office'", x.ID)
	return nil
}

func archiveListCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the archives, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.ListArchives(cmd.Context())
			if err != nil {
				return err
			}
			l := shell.Listing{Head: archiveHead, Raw: got.Value.Items}
			for _, x := range got.Value.Items {
				l.Rows = append(l.Rows, archiveRow(x))
			}
			if a.Format == "table" && len(l.Rows) == 0 {
				shell.Line(a.Out, "There are no archives: everything that entries say is in the service.")
				return nil
			}
			return a.Print(l)
		},
	}
}

func archivePlaceCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "place ARCHIVE WHERE", Short: "Note where the file of an archive was taken", Args: cobra.ExactArgs(2),
		Example: "  ironledger ledger archive place ar-0N7… 'the safe in the harbour office'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.PlaceArchive(cmd.Context(), args[0], api.ArchivePlace{Place: args[1]})
			if err != nil {
				return err
			}
			return a.Print(shell.Listing{Head: archiveHead, Rows: [][]string{archiveRow(got.Value)}, Raw: got.Raw})
		},
	}
}

// archiveFile reads an archive, compressed or not, and proves it with a key, "" for the one
// that this client has seen of the service.
func archiveFile(a *shell.App, path, key string, visit func(*ledger.Line) error) (*ledger.ArchiveHead,
	ledger.Head, error) {
	if key == "" {
		cl, err := a.Client()
		if err == nil {
			key, err = seenKey(a, cl)
		}
		if err != nil {
			return nil, ledger.Head{}, shell.Usagef("say by which key the file is signed: --key, the ledger's public "+
				"key or a file that holds it (%v)", err)
		}
	}
	verifier, err := keyOf(key)
	if err != nil {
		return nil, ledger.Head{}, err
	}
	f, err := a.Open(path)
	if err != nil {
		return nil, ledger.Head{}, err
	}
	defer f.Close()
	r, err := unpacked(f)
	if err != nil {
		return nil, ledger.Head{}, fmt.Errorf("%s: %w", path, err)
	}
	h, head, err := ledger.ReadArchive(r, verifier, visit)
	if err != nil {
		return nil, head, fmt.Errorf("%s: %w", path, err)
	}
	return h, head, nil
}

func archiveVerifyCmd(a *shell.App) *cobra.Command {
	key, alone := "", false
	c := &cobra.Command{
		Use: "verify FILE|-", Short: "Check an archive by itself, and that the service's ledger goes on from it",
		Args: cobra.ExactArgs(1),
		Long: `Check an archive: every entry has its hash, the hashes make the tree whose head is signed, and,
unless --alone is given, the ledger of the service goes on from that head. Exit code 3 says
that the file does not hold.`,
		Example: "  ironledger ledger archive verify ar-0N7….ndjson.gz --key ledger.pub --alone",
		RunE: func(cmd *cobra.Command, args []string) error {
			bodies, redacted := 0, 0
			bar := a.Walked(-1, "entries", "verifying")
			h, head, err := archiveFile(a, args[0], key, func(l *ledger.Line) error {
				if bar.Add(1); l.Body == nil {
					redacted++
				} else {
					bodies++
				}
				return nil
			})
			bar.Done()
			if err == nil && !alone {
				err = goesOn(cmd.Context(), a, key, head)
			}
			if err != nil {
				return notHeld(a, err)
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ARCHIVE", "FROM", "TO", "BODIES", "REDACTED"},
					Rows: [][]string{{h.Archive, fmt.Sprint(h.From), fmt.Sprint(h.To), fmt.Sprint(bodies), fmt.Sprint(redacted)}},
					Raw: map[string]any{"archive": h.Archive, "origin": h.Origin, "from": h.From, "to": h.To,
						"bodies": bodies, "redacted": redacted, "sound": true}})
			}
			shell.Line(a.Out, "%s %s has entries %d to %d of %s, as they were signed.", a.Bold("Sound:"), h.Archive, h.From,
				h.To, h.Origin)
			if redacted > 0 {
				shell.Line(a.Out, "%d bodies were redacted before it was made.", redacted)
			}
			if !alone {
				shell.Line(a.Out, "The service's ledger goes on from it.")
			}
			return nil
		},
	}
	addKeyFlag(c, &key)
	c.Flags().BoolVar(&alone, "alone", false, "ask no service")
	return c
}

// notHeld says that an archive does not hold, which is the answer no, or is the error itself.
func notHeld(a *shell.App, err error) error {
	if !errors.Is(err, ledger.ErrArchive) {
		return err
	}
	shell.Line(a.Err, "ironledger: %s", err)
	return shell.ErrNo
}

// goesOn demands the proof that the service's ledger goes on from the head of an archive.
func goesOn(ctx context.Context, a *shell.App, key string, head ledger.Head) error {
	cl, w, _, err := watch(ctx, a, key)
	if err != nil {
		return err
	}
	got, err := cl.GetConsistency(ctx, api.GetConsistencyParams{From: head.Size})
	if err != nil {
		return err
	}
	now, err := ledger.OpenHead([]byte(got.Value.Checkpoint), w.Verifier)
	if err == nil {
		err = ledger.CheckConsistency(head, now, got.Value.Hashes)
	}
	if err != nil {
		return fmt.Errorf("%w: the service's ledger does not go on from it: %s", ledger.ErrArchive, err)
	}
	return nil
}

func archiveShowCmd(a *shell.App) *cobra.Command {
	key, about, seq := "", "", int64(0)
	c := &cobra.Command{
		Use: "show FILE|-", Short: "Print entries of an archive, which is verified first",
		Args: cobra.ExactArgs(1),
		Example: `  ironledger ledger archive show ar-0N7….ndjson.gz --entry 42
  ironledger ledger archive show ar-0N7….ndjson.gz --about maren.holt@gullholm.example -o json`,
		RunE: func(_ *cobra.Command, args []string) error {
			l := shell.Listing{Head: entryHead}
			items := []api.Entry{}
			_, _, err := archiveFile(a, args[0], key, func(x *ledger.Line) error {
				if seq != 0 && x.Seq != seq || about != "" && x.About != about &&
					!strings.Contains(string(x.Body), quoted(about)) {
					return nil
				}
				e := audit.Line(x)
				e.Body = bytes.Clone(e.Body) // the line is the same one each time
				items = append(items, e)
				l.Rows = append(l.Rows, []string{fmt.Sprint(e.Seq), entryTime(e.At), string(e.Kind), e.Actor, e.About, e.Gist})
				return nil
			})
			if err != nil {
				return notHeld(a, err)
			}
			l.Raw = items
			if seq == 0 || a.Format != "table" {
				return a.Print(l)
			}
			if len(items) == 0 {
				return fmt.Errorf("entry %d is not in %s", seq, args[0])
			}
			e := items[0]
			entryFacts(a, &e)
			if e.Redacted {
				shell.Line(a.Out, "\nIts body was redacted before the archive was made. The file proves its number and hash alone.")
				return nil
			}
			return entryBody(a, &e)
		},
	}
	addKeyFlag(c, &key)
	c.Flags().Int64Var(&seq, "entry", 0, "this entry alone, with its body")
	c.Flags().StringVar(&about, "about", "", "those about this id, or that speak of it")
	return c
}

// quoted is how an id stands in the body of an entry.
func quoted(id string) string { return string(value.OfText(id).AppendJSON(nil)) }

// unpacked reads what is compressed, as what is not.
func unpacked(r io.Reader) (io.Reader, error) {
	b := bufio.NewReader(r)
	if first, err := b.Peek(2); err == nil && first[0] == 0x1f && first[1] == 0x8b { // RFC 1952, section 2.3.1
		return gzip.NewReader(b)
	}
	return b, nil
}
