package books

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/starter"
)

func rulebookInitCmd(a *shell.App) *cobra.Command {
	answers, example, listed := starter.Answers{}, "", false
	c := &cobra.Command{
		Use: "init [FILE|-]", Short: "Write a rulebook to begin with", Args: cobra.MaximumNArgs(1),
		Long: `Write a rulebook to begin with: from a few answers, which are asked for on a terminal, or an
example. It is right as it is, and tried by its own examples; every line may be changed. A
file that is there is not overwritten.`,
		Example: `  ironledger rulebook init
  ironledger rulebook init house.yaml --platforms windows,ipados --groups finance
  ironledger rulebook init shop.yaml --example shop
  ironledger rulebook init --list`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if listed {
				return listExamples(a)
			}
			f := cmd.Flags()
			asks := !f.Changed("example") && !f.Changed("ladder") && !f.Changed("platforms") && !f.Changed("groups")
			if in, ok := a.In.(*os.File); asks && ok && term.IsTerminal(int(in.Fd())) {
				if err := askStarter(a, &answers); err != nil {
					return err
				}
			}
			var text string
			var err error
			if example != "" {
				text, err = starter.Example(example)
			} else {
				text, err = starter.Compose(answers)
			}
			if err != nil {
				return shell.UsageOf(err)
			}
			path := cmp.Or(example, answers.Name, starter.Name) + ".yaml"
			if len(args) > 0 {
				path = args[0]
			}
			return begin(a, path, text)
		},
	}
	f := c.Flags()
	f.StringVar(&answers.Name, "name", "", "what the rulebook is called (default: "+starter.Name+")")
	f.StringSliceVar(&answers.Ladder, "ladder", nil, "the levels of trust, the lowest first")
	f.StringSliceVar(&answers.Platforms, "platforms", nil, "the platforms of the devices")
	f.StringSliceVar(&answers.Groups, "groups", nil, "the groups of people who work with what matters most")
	f.StringVar(&example, "example", "", "one of the examples in place of answers: "+strings.Join(starter.Examples(), ", "))
	f.BoolVar(&listed, "list", false, "list the examples, and write nothing")
	for _, other := range []string{"name", "ladder", "platforms", "groups"} {
		c.MarkFlagsMutuallyExclusive("example", other)
	}
	shell.Must(c.RegisterFlagCompletionFunc("example", cobra.FixedCompletions(starter.Examples(),
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func listExamples(a *shell.App) error {
	for _, name := range starter.Examples() {
		text, err := starter.Example(name)
		if err != nil {
			return err
		}
		first, _, _ := strings.Cut(text, "\n")
		shell.Line(a.Out, "%-12s%s", name, strings.TrimPrefix(first, "# "))
	}
	return nil
}

// begin writes a rulebook to path, - for standard output.
func begin(a *shell.App, path, text string) error {
	if path == "-" {
		_, err := fmt.Fprint(a.Out, text)
		return err
	}
	if err := writeNew(path, text); err != nil {
		return err
	}
	shell.Line(a.Out, "%s is written. Then:\n  ironledger rulebook check %s\n  ironledger rulebook publish %s",
		path, path, path)
	return nil
}

// writeNew writes a file that is not there.
func writeNew(path, text string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already, and stays as it is; name another file", path)
	}
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// askStarter asks for what is to be in a starter; an empty answer is the default.
func askStarter(a *shell.App, into *starter.Answers) error {
	in := bufio.NewScanner(a.In)
	ask := func(question, otherwise string) []string {
		fmt.Fprintf(a.Err, "%s [%s]: ", question, otherwise)
		in.Scan() // the end of the input is the default
		return strings.FieldsFunc(in.Text(), func(r rune) bool { return r == ',' || r == ' ' })
	}
	if name := ask("What is the rulebook called?", starter.Name); len(name) > 0 {
		into.Name = strings.Join(name, "-")
	}
	into.Ladder = ask("Which levels of trust, the lowest first?", strings.Join(starter.Ladder, ", "))
	var known []string
	for _, p := range starter.Platforms {
		known = append(known, p.Name)
	}
	into.Platforms = ask("Which platforms?", strings.Join(known, ", "))
	into.Groups = ask("Which groups work with what matters most?", "everybody")
	return in.Err()
}
