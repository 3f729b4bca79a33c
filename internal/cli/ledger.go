package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/client"
	"ironledger.example/internal/service"
	"ironledger.example/internal/store"
)

func (a *app) ledgerCmd() *cobra.Command {
	c := &cobra.Command{Use: "ledger", Short: "The record of everything: list, show, verify, prove, tail, export, redact",
		Long: `The ledger records every change of standing, every decision and every act, in a
tree of hashes whose head is signed. This client remembers the newest head it
has seen of each service, and before head, show, verify, prove, tail and export it
demands a proof that the ledger of now goes on from it.`}
	c.AddCommand(a.ledgerHeadCmd(), a.ledgerKeyCmd(), a.ledgerListCmd(), a.ledgerShowCmd(), a.ledgerVerifyCmd(), a.ledgerProveCmd(), a.ledgerCheckProofCmd(),
		a.ledgerTailCmd(), a.ledgerExportCmd(), a.ledgerRedactCmd(), a.ledgerForgetCmd())
	return c
}

func (a *app) ledgerHeadCmd() *cobra.Command {
	key := ""
	c := &cobra.Command{
		Use: "head", Short: "The ledger at a glance, its signature and its growth since last seen checked", Args: cobra.NoArgs,
		Example: "  ironledger ledger head\n  ironledger ledger head -o json | jq -r .checkpoint",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			before, err := a.seen(cl.URL())
			if err != nil {
				return err
			}
			w, err := a.witness(cmd.Context(), cl, key)
			if err != nil {
				return err
			}
			got, err := cl.Ledger(cmd.Context())
			if err != nil {
				return err
			}
			l := got.Value
			if a.format != "table" {
				return a.print(listing{head: []string{"ORIGIN", "SIZE", "ROOT", "VERIFIED"}, raw: got.Raw, rows: [][]string{{l.Origin, fmt.Sprint(l.Size), l.Root, string(l.Verification.State)}}})
			}
			line(a.out, "%s   %s entries", a.bold(w.head.Origin), counted(w.head.Size))
			line(a.out, "Root      %s", w.head.Root)
			line(a.out, "Key       %s", w.Key)
			switch {
			case before.Checkpoint == "":
				line(a.out, "Seen      for the first time; remembered from now on")
			default:
				line(a.out, "Seen      it goes on from what was seen %s, as the proof shows", ago(before.SeenAt))
			}
			line(a.out, "Verified  %s", verificationText(l.Verification))
			for _, p := range l.Verification.Problems {
				line(a.out, "          %s", a.rust(ledger.Problem{Seq: p.Seq, Message: p.Message}.String()))
			}
			if l.Trouble != "" {
				line(a.out, "%s %s", a.rust("Trouble: "), l.Trouble)
			}
			if l.ClockAhead > 0 {
				line(a.out, "%s the machine's clock stands %s before the ledger's time", a.rust("Clock:   "), time.Duration(l.ClockAhead)*time.Second)
			}
			return nil
		},
	}
	addKeyFlag(c, &key)
	return c
}

func addKeyFlag(c *cobra.Command, key *string) {
	c.Flags().StringVar(key, "key", "", "the ledger's public key, or a file that holds it (default: the one seen first)")
}

func verificationText(v api.Verification) string {
	switch v.State {
	case api.Sound:
		return fmt.Sprintf("by the service %s: sound, %s entries in %s", ago(v.At), counted(v.Size), time.Duration(v.Millis)*time.Millisecond)
	case api.Running:
		return fmt.Sprintf("being verified by the service: %d of %d entries", v.Size, v.Of)
	case api.Broken:
		return fmt.Sprintf("BROKEN, as the service found %s", ago(v.At))
	}
	return "not yet by the service since it started; see ironledger ledger verify"
}

// counted writes a number in groups of three.
func counted(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func (a *app) ledgerKeyCmd() *cobra.Command {
	data := ""
	c := &cobra.Command{
		Use: "key", Short: "Print the ledger's public key, which verifiers need", Args: cobra.NoArgs,
		Long:    "Print the ledger's public key (C2SP signed-note). With --data it is read from the\nservice's own folder, so that it can be compared with what clients have seen.",
		Example: "  ironledger ledger key > ledger.pub\n  sudo ironledger ledger key --data /var/lib/ironledger",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if data != "" {
				key, err := store.ReadKey(service.KeyPath(data))
				if err == nil {
					line(a.out, "%s", key.Public)
				}
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			w, err := a.witness(cmd.Context(), cl, "")
			if err == nil {
				line(a.out, "%s", w.Key)
			}
			return err
		},
	}
	c.Flags().StringVar(&data, "data", "", "the folder of the records, on the service's machine")
	return c
}

var entryHead = []string{"ENTRY", "AT", "KIND", "BY", "ABOUT", "WHAT"}

func (a *app) ledgerListCmd() *cobra.Command {
	var p api.ListEntriesParams
	limit := 0
	c := &cobra.Command{
		Use: "list", Short: "List entries, newest first", Args: cobra.NoArgs,
		Example: "  ironledger ledger list --kind waiver.\n  ironledger ledger list --device GF-T-2107 --since 2026-11-20T00:00:00Z",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if limit < 1 {
				return usageError{errors.New("--limit is at least 1")}
			}
			l := listing{head: entryHead}
			for len(l.rows) < limit {
				p.Limit = min(500, limit-len(l.rows))
				page, err := cl.Entries(cmd.Context(), p)
				if err != nil {
					return err
				}
				for _, e := range page.Value.Items {
					what := e.Gist
					if a.format == "table" {
						what = clip(what, 70)
					}
					l.rows = append(l.rows, []string{fmt.Sprint(e.Seq), entryTime(e.At), e.Kind, e.Actor, e.About, what})
				}
				l.items = append(l.items, itemsOf(page.Raw)...)
				if p.Cursor = page.Value.Next; p.Cursor == "" {
					break
				}
			}
			l.raw = l.items
			return a.print(l)
		},
	}
	f := c.Flags()
	f.StringVar(&p.Kind, "kind", "", "of this kind, or of all that begin so with a dot at the end, as waiver.")
	f.StringVar(&p.Actor, "by", "", "by this token, the clock or the service")
	f.StringVar(&p.About, "about", "", "about this id")
	f.StringVar(&p.Device, "device", "", "about this device, or that speak of it")
	f.StringVar(&p.Person, "person", "", "that speak of this person")
	f.StringVar(&p.Since, "since", "", "not before this moment, RFC 3339")
	f.StringVar(&p.Until, "until", "", "before this moment, RFC 3339")
	f.IntVar(&limit, "limit", 50, "at most so many")
	must(c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions(kindNames(), cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func kindNames() []string {
	out := make([]string, len(ledger.Kinds))
	for i, k := range ledger.Kinds {
		out[i] = string(k)
	}
	return out
}

// entryTime is the time of an entry for tables, to the second.
func entryTime(at string) string {
	day, rest, ok := strings.Cut(at, "T")
	if !ok || len(rest) < 8 {
		return at
	}
	return day + " " + rest[:8]
}

// seqOf reads the number of an entry.
func seqOf(text string) (int64, error) {
	seq, err := strconv.ParseInt(text, 10, 64)
	if err != nil || seq < 1 {
		return 0, usageError{fmt.Errorf("%q is no number of an entry; they count from 1", text)}
	}
	return seq, nil
}

func (a *app) ledgerShowCmd() *cobra.Command {
	key := ""
	c := &cobra.Command{
		Use: "show ENTRY", Short: "Show an entry, its proof checked", Args: cobra.ExactArgs(1),
		Example: "  ironledger ledger show 42",
		RunE: func(cmd *cobra.Command, args []string) error {
			seq, err := seqOf(args[0])
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			w, err := a.witness(cmd.Context(), cl, key)
			if err != nil {
				return err
			}
			got, err := cl.Entry(cmd.Context(), seq)
			if err != nil {
				return err
			}
			e := got.Value
			head, err := e.Proof.Check(w.verifier)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.print(listing{head: entryHead, raw: got.Raw, rows: [][]string{{fmt.Sprint(e.Seq), e.At, e.Kind, e.Actor, e.About, e.Gist}}})
			}
			line(a.out, "%s   %s", a.bold(fmt.Sprintf("Entry %d", e.Seq)), e.Kind)
			line(a.out, "At     %s\nBy     %s\nAbout  %s\nLeaf   %s", e.At, e.Actor, e.About, e.Leaf)
			line(a.out, "Proof  it is in the tree of %s entries that is signed; %d hashes show it", counted(head.Size), len(e.Proof.Hashes))
			if e.Redacted {
				line(a.out, "\n%s its body was removed; entry %d tells why.", a.rust("Redacted:"), e.RedactedBy)
				return nil
			}
			body, err := indented(e.Body)
			if err == nil {
				line(a.out, "\n%s", body)
			}
			return err
		},
	}
	addKeyFlag(c, &key)
	return c
}

func (a *app) ledgerProveCmd() *cobra.Command {
	return &cobra.Command{
		Use: "prove ENTRY", Short: "Print the proof that an entry is in the ledger, to keep or pass on", Args: cobra.ExactArgs(1),
		Long:    "Print the proof that an entry is in the ledger (RFC 6962, section 2.1.1). It holds the\nentry, the hashes on its way to the root, and the signed head. Whoever has it needs\nnothing but the ledger's public key to check it: ironledger ledger check-proof.",
		Example: "  ironledger ledger prove 42 > entry-42.proof.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			seq, err := seqOf(args[0])
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			w, err := a.witness(cmd.Context(), cl, "")
			if err != nil {
				return err
			}
			got, err := cl.Entry(cmd.Context(), seq)
			if err != nil {
				return err
			}
			if _, err := got.Value.Proof.Check(w.verifier); err != nil {
				return err
			}
			raw, err := indented(got.Value.Proof)
			if err == nil {
				line(a.out, "%s", raw)
			}
			return err
		},
	}
}

func (a *app) ledgerCheckProofCmd() *cobra.Command {
	key := ""
	c := &cobra.Command{
		Use: "check-proof FILE|-", Short: "Check a proof with the ledger's public key alone; no service is asked", Args: cobra.ExactArgs(1),
		Example: "  ironledger ledger check-proof entry-42.proof.json --key ledger.pub",
		RunE: func(_ *cobra.Command, args []string) error {
			verifier, err := keyOf(key)
			if err != nil {
				return err
			}
			text, err := a.read(args[0])
			if err != nil {
				return err
			}
			var p ledger.Proof
			dec := json.NewDecoder(strings.NewReader(text))
			dec.DisallowUnknownFields()
			if err := dec.Decode(&p); err != nil {
				return fmt.Errorf("%s is no proof as \"ledger prove\" prints it: %w", args[0], err)
			}
			head, err := p.Check(verifier)
			switch {
			case errors.Is(err, ledger.ErrProof) || errors.Is(err, ledger.ErrSignature):
				line(a.err, "ironledger: %s: %s", args[0], err)
				return errNo
			case err != nil:
				return err
			}
			line(a.out, "The proof holds: entry %d is one of the %s entries that %s signed.", p.Seq, counted(head.Size), head.Origin)
			if p.Entry == "" {
				line(a.out, "Its body was redacted; the proof shows its hash %s alone.", p.Leaf)
				return nil
			}
			line(a.out, "%s", p.Entry)
			return nil
		},
	}
	addKeyFlag(c, &key)
	must(c.MarkFlagRequired("key"))
	return c
}

func (a *app) ledgerRedactCmd() *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use: "redact ENTRY --reason REASON", Short: "Remove the body of an entry, because what it says must go; its hash stays", Args: cobra.ExactArgs(1),
		Long:    "Remove the body of an entry, because what it says must go: a person's data, say. Its\nhash stays in the tree, so every proof holds, and the redaction is an entry itself.\nIt cannot be undone.",
		Example: `  ironledger ledger redact 42 --reason "erasure asked for by the person, ticket 1182"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			seq, err := seqOf(args[0])
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			got, err := cl.Redact(cmd.Context(), seq, reason)
			if err != nil {
				return err
			}
			if a.format != "table" {
				e := got.Value
				return a.print(listing{head: entryHead, raw: got.Raw, rows: [][]string{{fmt.Sprint(e.Seq), e.At, e.Kind, e.Actor, e.About, e.Gist}}})
			}
			line(a.out, "The body of entry %d is gone; entry %d tells so.", seq, got.Value.Seq)
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, which stays in the ledger")
	must(c.MarkFlagRequired("reason"))
	return c
}

func (a *app) ledgerForgetCmd() *cobra.Command {
	return &cobra.Command{
		Use: "forget", Short: "Forget the key and the head that this client has seen of the service", Args: cobra.NoArgs,
		Long: "Forget the key and the newest head that this client has seen of the service, after its\nkey was replaced or an old backup restored. A rewritten history before the next contact\nwould then go unseen.",
		RunE: func(*cobra.Command, []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			path := a.witnessPath(cl.URL())
			if err := os.Remove(path); errors.Is(err, os.ErrNotExist) {
				return fmt.Errorf("nothing was seen of the ledger of %s", cl.URL())
			} else if err != nil {
				return err
			}
			line(a.out, "Forgotten: %s", path)
			return nil
		},
	}
}

func (a *app) ledgerExportCmd() *cobra.Command {
	var p api.ExportLedgerParams
	c := &cobra.Command{
		Use: "export [FILE]", Short: "Write entries, oldest first, with the signed head at the end", Args: cobra.MaximumNArgs(1),
		Long: `Write entries, oldest first: as ndjson with their hashes and the signed head at
the end, which "ironledger ledger verify --file" checks with no service; or as
ocsf, events of the Open Cybersecurity Schema Framework.`,
		Example: "  ironledger ledger export ledger.ndjson\n  ironledger ledger export --as ocsf --from 1000 | jq .message",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if _, err := a.witness(cmd.Context(), cl, ""); err != nil {
				return err
			}
			body, err := cl.ExportLedger(cmd.Context(), p)
			if err != nil {
				return err
			}
			defer body.Close()
			if len(args) == 0 || args[0] == "-" {
				if _, err = io.Copy(a.out, body); err != nil {
					return fmt.Errorf("the export broke off: %w", err)
				}
				return nil
			}
			f, err := os.CreateTemp(dirOf(args[0]), ".export-*")
			if err != nil {
				return err
			}
			n, err := io.Copy(f, body)
			if err = errors.Join(err, f.Close()); err == nil {
				err = os.Rename(f.Name(), args[0])
			}
			if err != nil {
				return errors.Join(fmt.Errorf("the export broke off: %w", err), os.Remove(f.Name()))
			}
			line(a.err, "%s bytes written to %s.", counted(n), args[0])
			return nil
		},
	}
	f := c.Flags()
	f.Int64Var(&p.From, "from", 1, "the first entry")
	f.Int64Var(&p.To, "to", 0, "the last entry (0: the newest)")
	f.StringVar(&p.Format, "as", "ndjson", "ndjson or ocsf")
	must(c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"ndjson", "ocsf"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

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
func (a *app) verified(v service.Verification, signer string) error {
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
		line(a.out, "%s %s entries, signed by %s (%s%s).", a.bold("Sound:"), counted(v.Size), signer, time.Duration(v.Millis)*time.Millisecond, rate)
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

func resultOf(w *ledger.Walk, begun time.Time) service.Verification {
	v := service.Verification{State: "sound", At: time.Now().UTC().Format(time.RFC3339), Size: w.Size(), Of: w.Size(), Redacted: w.Redacted, Millis: time.Since(begun).Milliseconds(), Problems: w.Problems, More: w.More}
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
	w := &ledger.Walk{}
	bar := a.walked(-1, "entries")
	checkpoint, err := client.EachLine(f, func(l *ledger.Line) error { w.Add(l); bar.add(1); return nil })
	bar.done()
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if checkpoint == nil {
		w.End(nil)
		w.Problems = append(w.Problems, ledger.Problem{Message: "the file ends without the signed head: it was cut"})
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
	key, err := store.ReadKey(service.KeyPath(dir))
	if err != nil {
		return err
	}
	records, err := store.OpenReader(service.DatabasePath(dir))
	if err != nil {
		return err
	}
	bar := a.walked(-1, "entries")
	last := int64(0)
	v, err := service.VerifyRecords(ctx, records, key.Verifier, service.Thorough{File: true, Progress: func(done, of int64) {
		bar.of(of)
		bar.add(done - last)
		last = done
	}})
	bar.done()
	if err = errors.Join(err, records.Close()); err != nil {
		v = &service.Verification{State: "broken", Problems: []ledger.Problem{{Message: err.Error()}}}
	}
	return a.verified(*v, key.Verifier.Name())
}

func (a *app) verifyService(ctx context.Context, key string) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	before, err := a.seen(cl.URL())
	if err != nil {
		return err
	}
	w, err := a.witness(ctx, cl, key)
	if err != nil {
		return err
	}
	begun := time.Now()
	walk := &ledger.Walk{Standings: true}
	if before.Checkpoint != "" {
		if head, err := ledger.OpenHead([]byte(before.Checkpoint), w.verifier); err == nil {
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
				walk.Problems = append(walk.Problems, ledger.Problem{Seq: size, Message: fmt.Sprintf("device %s stood at %s, and the entries say %q", device, level, said)})
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
	bar := a.walked(w.head.Size, "entries")
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
	head, err := ledger.OpenHead(checkpoint, w.verifier)
	if err != nil {
		return w.alarm(err)
	}
	walk.End(&head)
	v := resultOf(walk, begun)
	v.Devices = devices
	return a.verified(v, head.Origin)
}

func dirOf(path string) string {
	if i := strings.LastIndexByte(path, os.PathSeparator); i >= 0 {
		return path[:i+1]
	}
	return "."
}

func (a *app) ledgerTailCmd() *cobra.Command {
	var follow bool
	var from int64
	var as, resume, target string
	last := 0
	c := &cobra.Command{
		Use: "tail", Short: "Print the newest entries, and follow what comes", Args: cobra.NoArgs,
		Long: `Print the newest entries, oldest first, and with --follow every one that comes, none
twice and none left out: entries are numbered without a gap, and a gap is an
error. With --resume the number of the newest entry passed on is kept in a file,
and the next run goes on behind it; after a crash the last few may come twice.

With --syslog entries go to a collector as RFC 5424 messages, over TCP (RFC 6587,
octet counting) or UDP; --as says in which form. Over UDP what is lost is lost.`,
		Example: "  ironledger ledger tail -f\n  ironledger ledger tail -f --as ocsf --syslog tcp://siem.gullholm.example:601 --resume /var/lib/ironledger-tail/seq",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if as != "text" && as != "ndjson" && as != "ocsf" {
				return usageError{fmt.Errorf("--as is text, ndjson or ocsf, not %q", as)}
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			if _, err := a.witness(ctx, cl, ""); err != nil {
				return err
			}
			now, err := cl.Ledger(ctx)
			if err != nil {
				return err
			}
			t := &tail{app: a, as: as, origin: now.Value.Origin, resume: resume}
			next := max(1, now.Value.Size-int64(last)+1)
			if from > 0 {
				next = from
			}
			if kept, err := t.kept(); err != nil {
				return err
			} else if kept > 0 {
				next = kept + 1
			}
			if target != "" {
				if t.syslog, err = newSyslog(target); err != nil {
					return usageError{err}
				}
				defer t.syslog.close()
				if !cmd.Flags().Changed("as") {
					t.as = "ocsf"
				}
			}
			defer func() { err = errors.Join(err, t.save()) }()
			if !follow {
				if next > now.Value.Size {
					return nil
				}
				body, err := cl.ExportLedger(ctx, api.ExportLedgerParams{From: next, To: now.Value.Size, Format: "ndjson"})
				if err != nil {
					return err
				}
				_, err = client.EachLine(body, func(l *ledger.Line) error { return t.pass(ctx, l) })
				return errors.Join(err, body.Close())
			}
			return cl.Follow(ctx, next, func(l *ledger.Line) error { return t.pass(ctx, l) }, func(err error) bool {
				line(a.err, "ironledger: %s; trying again", err)
				return true
			})
		},
	}
	f := c.Flags()
	f.BoolVarP(&follow, "follow", "f", false, "go on with what comes, until interrupted")
	f.IntVarP(&last, "lines", "n", 10, "begin so many entries before the newest")
	f.Int64Var(&from, "from", 0, "begin with this entry")
	f.StringVar(&as, "as", "text", "text, ndjson or ocsf (to syslog: ocsf)")
	f.StringVar(&resume, "resume", "", "keep the newest number in this file, and go on behind it")
	f.StringVar(&target, "syslog", "", "where to send entries: tcp://host:port or udp://host:port")
	must(c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"text", "ndjson", "ocsf"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// tail passes entries on.
type tail struct {
	*app
	as, origin, resume string
	syslog             *syslogSender
	passed             int64 // the newest entry passed on
	saved              time.Time
}

// kept is the newest entry that an earlier run passed on, 0 for none.
func (t *tail) kept() (int64, error) {
	if t.resume == "" {
		return 0, nil
	}
	raw, err := os.ReadFile(t.resume)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	seq, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64)
	if err != nil || seq < 0 {
		return 0, fmt.Errorf("%s does not hold the number of an entry", t.resume)
	}
	return seq, nil
}

func (t *tail) pass(ctx context.Context, l *ledger.Line) error {
	var messages [][]byte
	switch t.as {
	case "text":
		messages = [][]byte{fmt.Appendf(nil, "%7d  %s  %-18s %-16s %s", l.Seq, entryTime(string(ledger.AppendTime(nil, l.At))), l.Kind, l.Actor, cmp.Or(l.Gist(), l.About))}
	case "ndjson":
		messages = [][]byte{bytes.TrimSpace(ledger.AppendLine(nil, l))}
	default:
		events, err := l.OCSF(t.origin)
		if err != nil {
			return err
		}
		for _, e := range events {
			messages = append(messages, e)
		}
	}
	for _, m := range messages {
		if t.syslog != nil {
			if err := t.syslog.send(ctx, l, m); err != nil {
				return err
			}
		} else if _, err := fmt.Fprintf(t.out, "%s\n", m); err != nil {
			return err
		}
	}
	if t.passed = l.Seq; time.Since(t.saved) < resumePause {
		return nil
	}
	return t.save()
}

// resumePause is how often the number of the newest entry is kept at most.
const resumePause = 200 * time.Millisecond

func (t *tail) save() error {
	if t.resume == "" || t.passed == 0 {
		return nil
	}
	t.saved = time.Now()
	return writeWhole(t.resume, fmt.Appendf(nil, "%d\n", t.passed))
}
