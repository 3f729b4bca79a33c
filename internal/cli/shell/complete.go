package shell

import (
	"github.com/spf13/cobra"

	"ironledger.example/api"
)

// CompleteAsk completes the person and the resource of a question.
func (a *App) CompleteAsk(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.CompletePeople(cmd, args, part)
	}
	var out []string
	cl, err := a.Client()
	switch {
	case err != nil:
	case len(args) == 1:
		if got, err := cl.GetVocabulary(cmd.Context()); err == nil {
			for _, r := range got.Value.Resources {
				out = append(out, r.ID+"\t"+r.Title)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompletePeople completes the ids of people.
func (a *App) CompletePeople(cmd *cobra.Command, _ []string, part string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if cl, err := a.Client(); err == nil {
		if got, err := cl.ListPeople(cmd.Context(), api.ListPeopleParams{Q: part, Limit: 50}); err == nil {
			for _, p := range got.Value.Items {
				out = append(out, p.ID+"\t"+p.Name)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteDevices completes the ids of devices.
func (a *App) CompleteDevices(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
	cl, err := a.Client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	page, err := cl.ListDevices(cmd.Context(), api.ListDevicesParams{Q: part, Limit: 100})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var ids []string
	for _, d := range page.Value.Items {
		ids = append(ids, d.ID+"\t"+d.Level)
	}
	return ids, cobra.ShellCompDirectiveNoFileComp
}

// CompleteRules completes the names of rules.
func (a *App) CompleteRules(cmd *cobra.Command, device string) ([]string, cobra.ShellCompDirective) {
	cl, err := a.Client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	d, err := cl.GetDevice(cmd.Context(), device)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, v := range d.Value.Standing.Verdicts {
		out = append(out, v.Rule+"\t"+v.Verdict.String())
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteRuleNames completes the rules of the rulebook in force.
func (a *App) CompleteRuleNames(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if cl, err := a.Client(); err == nil {
		if got, err := cl.ListRules(cmd.Context()); err == nil {
			for _, r := range got.Value.Items {
				out = append(out, r.Rule+"\t"+r.Title)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
