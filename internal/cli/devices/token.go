package devices

import (
	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// TokenCmd is the command token.
func TokenCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Bearer tokens: create, list, rotate, revoke", Aliases: []string{"tokens"}}
	c.AddCommand(tokenCreateCmd(a), tokenRotateCmd(a), &cobra.Command{
		Use: "list", Short: "List tokens, those that are no longer live too", Args: cobra.NoArgs,
		RunE: shell.Lists(a, (*client.Client).ListTokens, []string{"ID", "NAME", "ROLE", "STATE", "USED", "ENDS",
			"MADE", "BY"},
			func(t api.Token) []string {
				state, used, ends := t.State, t.UsedAt, t.EndsAt
				if a.Format == "table" {
					used, ends = shell.Ago(used), shell.When(ends)
					if used == "" {
						used = "never"
					}
					if t.State != "live" {
						state = a.Rust(state)
					}
				}
				return []string{t.ID, t.Name, t.Role, state, used, ends, shell.ShortTime(t.CreatedAt), t.CreatedBy}
			}),
	}, &cobra.Command{
		Use: "revoke ID|NAME", Short: "End a token at once", Args: cobra.ExactArgs(1),
		Example: "  ironledger token revoke mdm",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RevokeToken(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.Format != "table" {
				return a.Print(shell.Listing{Head: []string{"ID", "NAME", "STATE"}, Raw: got.Raw,
					Rows: [][]string{{got.Value.ID, got.Value.Name, got.Value.State}}})
			}
			shell.Line(a.Out, "Token %s (%s) is revoked.", got.Value.ID, got.Value.Name)
			return nil
		},
	})
	return c
}

func tokenCreateCmd(a *shell.App) *cobra.Command {
	d := api.TokenDraft{}
	c := &cobra.Command{
		Use: "create NAME", Short: "Make a token; its secret is printed this once", Args: cobra.ExactArgs(1),
		Long: `Make a token; its secret is printed this once and kept nowhere.

Roles: reader sees everything; helpdesk also asks; author also publishes
rulebooks; admin may do everything; enforcer asks for decisions that count;
source brings evidence under the token's name; receiver hears of changes.`,
		Example: "  ironledger token create mdm --role source\n  ironledger token create auditor --role reader --for 30d",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			d.Name = args[0]
			got, err := cl.CreateToken(cmd.Context(), d)
			if err != nil {
				return err
			}
			return showSecret(a, got)
		},
	}
	c.Flags().StringVar(&d.Role, "role", "", "reader, helpdesk, author, admin, enforcer, source or receiver")
	c.Flags().StringVar(&d.For, "for", "", "after which time it ends by itself, as 90d (default: never)")
	shell.Must(c.MarkFlagRequired("role"))
	shell.Must(c.RegisterFlagCompletionFunc("role",
		cobra.FixedCompletions([]string{"reader", "helpdesk", "author", "admin", "enforcer", "source", "receiver"},
			cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func tokenRotateCmd(a *shell.App) *cobra.Command {
	d := api.TokenRotation{}
	c := &cobra.Command{
		Use: "rotate ID|NAME", Short: "Make a token in the place of one; its secret is printed this once",
		Args: cobra.ExactArgs(1),
		Long: `Make a token in the place of one: of the same name and role, with another secret. With
--overlap the old secret is good for a time beside the new one, so that nobody is without.`,
		Example: "  ironledger token rotate mdm --overlap 1d --for 90d",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.RotateToken(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			return showSecret(a, got)
		},
	}
	c.Flags().StringVar(&d.Overlap, "overlap", "", "how long the old secret is good too, as 1d (default: not at all)")
	c.Flags().StringVar(&d.For, "for", "", "after which time the new one ends by itself, as 90d (default: never)")
	return c
}

// showSecret prints the secret of a token that was just made.
func showSecret(a *shell.App, got *client.Reply[api.NewToken]) error {
	t := got.Value.Token
	if a.Format == "table" {
		shell.Line(a.Out, "%s", got.Value.Secret)
		shell.Line(a.Err, "Token %s (%s, %s%s). The line above is its secret; it is not shown again.", t.ID, t.Name, t.Role,
			shell.Only(t.EndsAt != "", ", ends "+shell.When(t.EndsAt)))
		return nil
	}
	return a.Print(shell.Listing{Head: []string{"ID", "NAME", "ROLE", "ENDS", "SECRET"}, Raw: got.Raw,
		Rows: [][]string{{t.ID, t.Name, t.Role, t.EndsAt, got.Value.Secret}}})
}
