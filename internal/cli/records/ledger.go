// Package records has the commands about the ledger and the records it stands in.
package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/follow"
	"ironledger.example/internal/keyfile"
)

// LedgerCmd is the command ledger.
func LedgerCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "ledger",
		Short: "The record of everything: list, show, verify, prove, tail, export, archive, redact",
		Long: `The ledger records every change of standing, every decision and every act, in a
tree of hashes whose head is signed. This client remembers the newest head it
has seen of each service, and before head, show, verify, prove, tail and export it
demands a proof that the ledger of now goes on from it.`}
	c.AddCommand(ledgerHeadCmd(a), ledgerKeyCmd(a), ledgerListCmd(a), ledgerShowCmd(a),
		ledgerVerifyCmd(a), ledgerProveCmd(a), ledgerCheckProofCmd(a),
		ledgerTailCmd(a), ledgerExportCmd(a), ledgerArchiveCmd(a), ledgerRedactCmd(a), ledgerForgetCmd(a))
	return c
}

func ledgerHeadCmd(a *shell.App) *cobra.Command {
	key := ""
	c := &cobra.Command{
		Use: "head", Short: "The ledger at a glance, its signature and its growth since last seen checked",
		Args:    cobra.NoArgs,
		Example: "  ironledger ledger head\n  ironledger ledger head -o json | jq -r .checkpoint",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, w, before, err := watch(cmd.Context(), a, key)
			if err != nil {
				return err
			}
			got, err := cl.GetLedger(cmd.Context())
			if err != nil {
				return err
			}
			l := got.Value
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ORIGIN", "SIZE", "ROOT", "VERIFIED"}, Raw: got.Raw,
					Rows: [][]string{{l.Origin, fmt.Sprint(l.Size), l.Root, string(l.Verification.State)}}})
			}
			shell.Line(a.Out, "%s   %s entries", a.Bold(w.Head.Origin), counted(w.Head.Size))
			shell.Line(a.Out, "Root      %s", w.Head.Root)
			shell.Line(a.Out, "Key       %s", w.Key)
			switch {
			case before.Checkpoint == "":
				shell.Line(a.Out, "Seen      for the first time; remembered from now on")
			default:
				shell.Line(a.Out, "Seen      it goes on from what was seen %s, as the proof shows",
					shell.Ago(before.SeenAt))
			}
			shell.Line(a.Out, "Verified  %s", verificationText(l.Verification))
			for _, p := range l.Verification.Problems {
				shell.Line(a.Out, "          %s", a.Rust(p.String()))
			}
			if l.Trouble != "" {
				shell.Line(a.Out, "%s %s", a.Rust("Trouble: "), l.Trouble)
			}
			if l.ClockAhead > 0 {
				shell.Line(a.Out, "%s the machine's clock stands %s before the ledger's time", a.Rust("Clock:   "),
					time.Duration(l.ClockAhead)*time.Second)
			}
			return nil
		},
	}
	addKeyFlag(c, &key)
	return c
}

func addKeyFlag(c *cobra.Command, key *string) {
	c.Flags().StringVar(key, "key", "",
		"the ledger's public key, or a file that holds it (default: the one seen first)")
}

func verificationText(v api.Verification) string {
	switch v.State {
	case "sound":
		return fmt.Sprintf("by the service %s: sound, %s entries in %s", shell.Ago(v.At), counted(v.Size),
			time.Duration(v.Millis)*time.Millisecond)
	case "running":
		return fmt.Sprintf("being verified by the service: %d of %d entries", v.Size, v.Of)
	case "broken":
		return fmt.Sprintf("BROKEN, as the service found %s", shell.Ago(v.At))
	}
	return "not yet by the service since it started; see ironledger ledger verify"
}

// counted writes a number in groups of three.
func counted(n int64) string { return message.NewPrinter(language.English).Sprint(n) }

func ledgerKeyCmd(a *shell.App) *cobra.Command {
	data := ""
	c := &cobra.Command{
		Use: "key", Short: "Print the ledger's public key, which verifiers need", Args: cobra.NoArgs,
		Long: "Print the ledger's public key (C2SP signed-note). With --data it is read from the\nservice's " +
			"own folder, so that it can be compared with what clients have seen.",
		Example: "  ironledger ledger key > ledger.pub\n  sudo ironledger ledger key --data /var/lib/ironledger",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if data != "" {
				key, err := keyfile.Read(engine.KeyPath(data))
				if err != nil {
					return err
				}
				return printKey(a, key.Public)
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			w, err := witness(cmd.Context(), a, cl, "")
			if err != nil {
				return err
			}
			return printKey(a, w.Key)
		},
	}
	c.Flags().StringVar(&data, "data", "", "the folder of the records, on the service's machine")
	return c
}

// printKey prints a key alone, as verifiers read it, or as data where that is asked for.
func printKey(a *shell.App, key string) error {
	if a.Format == "table" {
		shell.Line(a.Out, "%s", key)
		return nil
	}
	return a.Print(shell.Listing{Head: []string{"KEY"}, Rows: [][]string{{key}}, Raw: map[string]string{"key": key}})
}

var entryHead = []string{"ENTRY", "AT", "KIND", "BY", "ABOUT", "WHAT"}

func ledgerListCmd(a *shell.App) *cobra.Command {
	var p api.ListEntriesParams
	limit := 0
	c := &cobra.Command{
		Use: "list", Short: "List entries, newest first", Args: cobra.NoArgs,
		Example: "  ironledger ledger list --kind waiver.\n  ironledger ledger list --device GF-T-2107 --since " +
			"2026-11-20T00:00:00Z",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			l, _, err := shell.Pages(limit,
				func(size int, cursor string) (*client.Reply[api.List[api.Entry]], error) {
					p.Limit, p.Cursor = size, cursor
					return cl.ListEntries(cmd.Context(), p)
				}, entryHead, func(e api.Entry) []string {
					what := e.Gist
					if a.Format == "table" {
						what = shell.Clip(what, 70)
					}
					return []string{fmt.Sprint(e.Seq), entryTime(e.At), string(e.Kind), e.Actor, e.About, what}
				})
			if err != nil {
				return err
			}
			return a.Print(l)
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
	f.IntVar(&limit, "limit", 50, "at most so many (0: all)")
	shell.Must(c.RegisterFlagCompletionFunc("kind",
		cobra.FixedCompletions(kindNames(), cobra.ShellCompDirectiveNoFileComp)))
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
		return 0, shell.Usagef("%q is no number of an entry; they count from 1", text)
	}
	return seq, nil
}

// proven asks for an entry, by its number in words, and checks its proof with a key, ""
// for the one that was seen before. It returns the head that the proof was made for.
func proven(ctx context.Context, a *shell.App, key, number string) (got *client.Reply[api.ProvenEntry],
	head ledger.Head, err error) {
	seq, err := seqOf(number)
	if err != nil {
		return nil, head, err
	}
	cl, err := a.Client()
	if err != nil {
		return nil, head, err
	}
	w, err := witness(ctx, a, cl, key)
	if err != nil {
		return nil, head, err
	}
	if got, err = cl.GetEntry(ctx, seq); err != nil {
		return nil, head, err
	}
	if head, err = got.Value.Proof.Check(w.Verifier); err != nil {
		return nil, head, err
	}
	e := &got.Value
	told, err := toldBy(got)
	if err == nil {
		err = e.Proof.Shows(told)
	}
	if err == nil && (told.Seq != seq || e.Leaf != e.Proof.Leaf || e.Canonical != e.Proof.Entry) {
		err = fmt.Errorf("%w: what the service tells of entry %d beside it is something else", ledger.ErrProof, seq)
	}
	return got, head, err
}

// toldBy is an entry as an answer tells it beside its proof.
func toldBy(got *client.Reply[api.ProvenEntry]) (*ledger.Entry, error) {
	e := &got.Value
	told := &ledger.Entry{Seq: e.Seq, Kind: ledger.Kind(e.Kind), Actor: e.Actor, About: e.About}
	var err error
	if told.At, err = ledger.ParseTime(e.At); err != nil {
		return nil, err
	}
	var body struct {
		Body json.RawMessage `json:"body"`
	}
	if err := json.Unmarshal(got.Raw, &body); err != nil || body.Body == nil {
		return told, err
	}
	told.Body, err = ledger.Canonical(body.Body)
	return told, err
}

func ledgerShowCmd(a *shell.App) *cobra.Command {
	key := ""
	c := &cobra.Command{
		Use: "show ENTRY", Short: "Show an entry, its proof checked", Args: cobra.ExactArgs(1),
		Example: "  ironledger ledger show 42",
		RunE: func(cmd *cobra.Command, args []string) error {
			got, head, err := proven(cmd.Context(), a, key, args[0])
			if err != nil {
				return err
			}
			e := got.Value
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: entryHead, Raw: got.Raw,
					Rows: [][]string{{fmt.Sprint(e.Seq), e.At, string(e.Kind), e.Actor, e.About, e.Gist}}})
			}
			entryFacts(a, &e.Entry)
			shell.Line(a.Out, "Proof  it is in the tree of %s entries that is signed; %d hashes show it",
				counted(head.Size), len(e.Proof.Hashes))
			if e.Archive != "" {
				shell.Line(a.Out, "\n%s what it says is not here: %s.\nironledger ledger archive show FILE --entry %d "+
					"prints it.", a.Bold("Archived:"), e.Where, e.Seq)
				return nil
			}
			if e.Redacted {
				shell.Line(a.Out, "\n%s its body was removed; entry %d tells why.", a.Rust("Redacted:"),
					e.RedactedBy)
				return nil
			}
			return entryBody(a, &e.Entry)
		},
	}
	addKeyFlag(c, &key)
	return c
}

// entryFacts prints what is known of an entry beside its body.
func entryFacts(a *shell.App, e *api.Entry) {
	shell.Line(a.Out, "%s   %s", a.Bold(fmt.Sprintf("Entry %d", e.Seq)), e.Kind)
	shell.Line(a.Out, "At     %s\nBy     %s\nAbout  %s\nLeaf   %s", e.At, e.Actor, e.About, e.Leaf)
}

func entryBody(a *shell.App, e *api.Entry) error {
	body, err := shell.Indented(e.Body)
	if err == nil {
		shell.Line(a.Out, "\n%s", body)
	}
	return err
}

func ledgerProveCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "prove ENTRY", Short: "Print the proof that an entry is in the ledger, to keep or pass on",
		Args: cobra.ExactArgs(1),
		Long: "Print the proof that an entry is in the ledger (RFC 6962, section 2.1.1). It holds " +
			"the\nentry, the hashes on its way to the root, and the signed head. Whoever has it needs\nnothing " +
			"but the ledger's public key to check it: ironledger ledger check-proof.",
		Example: "  ironledger ledger prove 42 > entry-42.proof.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			got, _, err := proven(cmd.Context(), a, "", args[0])
			if err != nil {
				return err
			}
			raw, err := shell.Indented(got.Value.Proof)
			if err == nil {
				shell.Line(a.Out, "%s", raw)
			}
			return err
		},
	}
}

func ledgerCheckProofCmd(a *shell.App) *cobra.Command {
	key := ""
	c := &cobra.Command{
		Use: "check-proof FILE|-", Short: "Check a proof with the ledger's public key alone; no service is " +
			"asked", Args: cobra.ExactArgs(1),
		Example: "  ironledger ledger check-proof entry-42.proof.json --key ledger.pub",
		RunE: func(_ *cobra.Command, args []string) error {
			verifier, err := keyOf(key)
			if err != nil {
				return err
			}
			text, err := a.Read(args[0])
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
				shell.Line(a.Err, "ironledger: %s: %s", args[0], err)
				return shell.ErrNo
			case err != nil:
				return err
			}
			shell.Line(a.Out, "The proof holds: entry %d is one of the %s entries that %s signed.", p.Seq,
				counted(head.Size), head.Origin)
			if p.Entry == "" {
				shell.Line(a.Out, "Its body is not here: it was redacted or archived; the proof shows its hash %s alone.", p.Leaf)
				return nil
			}
			shell.Line(a.Out, "%s", p.Entry)
			return nil
		},
	}
	addKeyFlag(c, &key)
	shell.Must(c.MarkFlagRequired("key"))
	return c
}

func ledgerRedactCmd(a *shell.App) *cobra.Command {
	reason := ""
	c := &cobra.Command{
		Use:   "redact ENTRY --reason REASON",
		Short: "Remove the body of an entry, because what it says must go; its hash stays",
		Args:  cobra.ExactArgs(1),
		Long: "Remove the body of an entry, because what it says must go: a person's data, say. Its\nhash " +
			"stays in the tree, so every proof holds, and the redaction is an entry itself.\nIt cannot be undone.",
		Example: `  ironledger ledger redact 42 --reason "erasure asked for by the person, ticket 1182"`,
		RunE: func(cmd *cobra.Command, args []string) error {
			seq, err := seqOf(args[0])
			if err != nil {
				return err
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RedactEntry(cmd.Context(), seq, api.Reason{Reason: reason})
			if err != nil {
				return err
			}
			if a.Format != "table" {
				e := got.Value
				return a.Print(shell.Listing{Head: entryHead, Raw: got.Raw,
					Rows: [][]string{{fmt.Sprint(e.Seq), e.At, string(e.Kind), e.Actor, e.About, e.Gist}}})
			}
			shell.Line(a.Out, "The body of entry %d is gone; entry %d tells so.", seq, got.Value.Seq)
			if now, err := cl.GetLedger(cmd.Context()); err == nil && now.Value.ArchivedUntil >= seq {
				shell.Line(a.Err, "The file of the archive that has it too is not reached: see ironledger ledger archive list.")
			}
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, which stays in the ledger")
	shell.Must(c.MarkFlagRequired("reason"))
	return c
}

func ledgerForgetCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "forget", Short: "Forget the key and the head that this client has seen of the service",
		Args: cobra.NoArgs,
		Long: "Forget the key and the newest head that this client has seen of the service, after its\nkey was " +
			"replaced or an old backup restored. A rewritten history before the next contact\nwould then go unseen.",
		RunE: func(*cobra.Command, []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			path := follow.WitnessPath(seenDir(a), cl.URL())
			if err := os.Remove(path); errors.Is(err, os.ErrNotExist) {
				return fmt.Errorf("nothing was seen of the ledger of %s", cl.URL())
			} else if err != nil {
				return err
			}
			shell.Line(a.Out, "Forgotten: %s", path)
			return nil
		},
	}
}

func ledgerExportCmd(a *shell.App) *cobra.Command {
	var p api.ExportLedgerParams
	c := &cobra.Command{
		Use: "export [FILE]", Short: "Write entries, oldest first, with the signed head at the end",
		Args: cobra.MaximumNArgs(1),
		Long: `Write entries, oldest first: as ndjson with their hashes and the signed head at
the end, which "ironledger ledger verify --file" checks with no service; or as
ocsf, events of the Open Cybersecurity Schema Framework.`,
		Example: "  ironledger ledger export ledger.ndjson\n  ironledger ledger export --as ocsf --from 1000 | " +
			"jq .message",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if _, err := witness(cmd.Context(), a, cl, ""); err != nil {
				return err
			}
			body, err := cl.ExportLedger(cmd.Context(), p)
			if err != nil {
				return err
			}
			defer body.Close()
			if len(args) == 0 || args[0] == "-" {
				if _, err = io.Copy(a.Out, body); err != nil {
					return fmt.Errorf("the export broke off: %w", err)
				}
				return nil
			}
			if err := follow.WriteWhole(args[0], body); err != nil {
				return fmt.Errorf("the export broke off: %w", err)
			}
			info, err := os.Stat(args[0])
			if err != nil {
				return err
			}
			shell.Line(a.Err, "%s bytes written to %s.", counted(info.Size()), args[0])
			return nil
		},
	}
	f := c.Flags()
	f.Int64Var(&p.From, "from", 1, "the first entry")
	f.Int64Var(&p.To, "to", 0, "the last entry (0: the newest)")
	f.StringVar(&p.Format, "as", "ndjson", "ndjson or ocsf")
	shell.Must(c.RegisterFlagCompletionFunc("as",
		cobra.FixedCompletions([]string{"ndjson", "ocsf"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}
