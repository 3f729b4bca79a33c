package devices

import (
	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// TokenCmd is the command token.
func TokenCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Bearer tokens: create, list, revoke", Aliases: []string{"tokens"}}
	role := ""
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a token; its secret is printed this once", Args: cobra.ExactArgs(1),
		Long: `Make a token; its secret is printed this once and kept nowhere.

Roles: reader sees everything; helpdesk also asks; author also publishes
rulebooks; admin may do everything; enforcer asks for decisions that count;
source brings evidence under the token's name.`,
		Example: "  ironledger token create mdm --role source",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.CreateToken(cmd.Context(), api.TokenDraft{Name: args[0], Role: role})
			if err != nil {
				return err
			}
			if a.Format == "table" {
				shell.Line(a.Out, "%s", got.Value.Secret)
				shell.Line(a.Err, "Token %s (%s, %s). The line above is its secret; it is not shown again.",
					got.Value.Token.ID, got.Value.Token.Name, got.Value.Token.Role)
				return nil
			}
			return a.Print(shell.Listing{Head: []string{"ID", "NAME", "ROLE", "SECRET"}, Raw: got.Raw,
				Rows: [][]string{{got.Value.Token.ID, got.Value.Token.Name, got.Value.Token.Role,
					got.Value.Secret}}})
		},
	}
	create.Flags().StringVar(&role, "role", "", "reader, helpdesk, author, admin, enforcer or source")
	shell.Must(create.MarkFlagRequired("role"))
	shell.Must(create.RegisterFlagCompletionFunc("role",
		cobra.FixedCompletions([]string{"reader", "helpdesk", "author", "admin", "enforcer", "source", "receiver"},
			cobra.ShellCompDirectiveNoFileComp)))
	c.AddCommand(create, &cobra.Command{
		Use: "list", Short: "List tokens, the revoked ones too", Args: cobra.NoArgs,
		RunE: shell.Lists(a, (*client.Client).ListTokens, []string{"ID", "NAME", "ROLE", "MADE", "BY", "REVOKED"},
			func(t api.Token) []string {
				return []string{t.ID, t.Name, t.Role, shell.ShortTime(t.CreatedAt), t.CreatedBy,
					shell.ShortTime(t.RevokedAt)}
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
			shell.Line(a.Out, "Token %s (%s) is revoked.", got.Value.ID, got.Value.Name)
			return nil
		},
	})
	return c
}
