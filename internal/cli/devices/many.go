package devices

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// choice is how a command is told which devices it acts on: by their names, by standard input, or by a condition.
type choice struct {
	where string
	yes   bool
}

// atOnce is how many devices a service takes in one call, of which all are done or none.
const atOnce = 1000

// addTo gives a command the flags of a choice, and has it take devices or a condition, and others behind them.
func (x *choice) addTo(c *cobra.Command, others int) {
	c.Flags().StringVar(&x.where, "where", "", "those that this condition selects, in place of names")
	c.Flags().BoolVar(&x.yes, "yes", false, "do not ask whether all that --where selects are meant")
	c.Args = func(cmd *cobra.Command, args []string) error {
		switch {
		case x.where != "" && len(args) != others:
			return fmt.Errorf("name devices, or select them with --where, and not both")
		case x.where == "" && len(args) <= others:
			return fmt.Errorf("name the devices, or - for standard input, or select them with --where")
		}
		return nil
	}
}

// devices are those that are meant. Whether all that a condition selects are, a person is asked first.
func (x *choice) devices(ctx context.Context, a *shell.App, cl *client.Client, args []string, what string) (
	[]string, error) {
	if x.where == "" {
		return several(a, args)
	}
	page := api.ListDevicesParams{Where: x.where}
	l, _, err := shell.Pages(0, func(size int, cursor string) (*client.Reply[api.DevicePage], error) {
		page.Limit, page.Cursor = size, cursor
		return cl.ListDevices(ctx, page)
	}, nil, func(d api.DeviceSummary) []string { return []string{d.ID} })
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, row := range l.Rows {
		ids = append(ids, row[0])
	}
	if len(ids) == 0 {
		return nil, fmt.Errorf("no device is meant: the condition is true for none")
	}
	return ids, x.confirm(a, ids, what)
}

// confirm has a person say that so many devices are meant.
func (x *choice) confirm(a *shell.App, ids []string, what string) error {
	some := ids[:min(len(ids), 5)]
	shell.Line(a.Err, "%s would be %s: %s%s", counted(len(ids)), what, strings.Join(some, ", "),
		shell.Only(len(ids) > len(some), fmt.Sprintf(" and %d more", len(ids)-len(some))))
	if x.yes {
		return nil
	}
	in, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return shell.Usagef("nothing was done; say --yes if all %d are meant", len(ids))
	}
	fmt.Fprint(a.Err, "Go on? [y/N] ")
	said, _ := bufio.NewReader(in).ReadString('\n') // what cannot be read is no yes
	if !slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(said))) {
		return fmt.Errorf("nothing was done")
	}
	return nil
}

func counted(n int) string {
	if n == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", n)
}

// several are the devices that a command names, or that stand a line each on standard input for "-".
func several(a *shell.App, args []string) ([]string, error) {
	if !slices.Equal(args, []string{"-"}) {
		return args, nil
	}
	raw, err := io.ReadAll(io.LimitReader(a.In, 8<<20))
	if err != nil {
		return nil, err
	}
	out := strings.Fields(string(raw))
	if len(out) == 0 {
		return nil, shell.Usagef("standard input names no device")
	}
	shell.Line(a.Err, "%s", counted(len(out)))
	return out, nil
}

// actOn does something with the devices that a command names or selects, and gathers what became of each; done says
// what they are then, as in "3 devices would be retired".
func actOn[T any](cmd *cobra.Command, a *shell.App, x *choice, args []string, done string,
	do func(cl *client.Client, part []string) (*client.Reply[api.List[T]], error)) (*client.Reply[api.List[T]], error) {
	cl, err := a.Client()
	if err != nil {
		return nil, err
	}
	ids, err := x.devices(cmd.Context(), a, cl, args, done)
	if err != nil {
		return nil, err
	}
	return act(cmd.Context(), a, ids, func(part []string) (*client.Reply[api.List[T]], error) { return do(cl, part) })
}

// act does something with the devices that are meant: with all of them or none, or with so many at once if there are
// more than a service takes in one call. It gathers what became of each.
func act[T any](ctx context.Context, a *shell.App, ids []string,
	do func(part []string) (*client.Reply[api.List[T]], error)) (*client.Reply[api.List[T]], error) {
	all := &client.Reply[api.List[T]]{}
	all.Value.Items = []T{}
	raw := []json.RawMessage{}
	bar := a.Walked(int64(len(ids)), "devices", "acting")
	defer bar.Done()
	done := 0
	for part := range slices.Chunk(ids, atOnce) {
		err := ctx.Err()
		var got *client.Reply[api.List[T]]
		if err == nil {
			got, err = do(part)
		}
		if err != nil {
			if done > 0 {
				err = fmt.Errorf("%d of %d devices are done, %d at a time; the others, from %s on, are as they were: %w",
					done, len(ids), atOnce, part[0], err)
			}
			return nil, err
		}
		all.Value.Items, raw = append(all.Value.Items, got.Value.Items...), append(raw, shell.ItemsOf(got.Raw)...)
		done += len(part)
		bar.Add(int64(len(part)))
	}
	var err error
	all.Raw, err = json.Marshal(map[string]any{"items": raw})
	return all, err
}

// oneOf is what a service gave for a list of one device that was named, as an object; as a list otherwise.
func oneOf[T any](got *client.Reply[api.List[T]], named []string) any {
	if items := shell.ItemsOf(got.Raw); len(named) == 1 && named[0] != "-" && len(items) == 1 {
		return items[0]
	}
	return got.Raw
}

// shownLines bounds how many devices a command tells of a line each.
const shownLines = 20

// told says what became of devices, a line each; of the last of many no more than how many there are.
func told[T any](a *shell.App, items []T, line func(T) string) {
	for i, x := range items {
		if i == shownLines && len(items) > shownLines+1 {
			shell.Line(a.Out, "and %d more", len(items)-i)
			return
		}
		shell.Line(a.Out, "%s", line(x))
	}
}
