package client

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

// completes has a shell that asks know devices, sites, incidents and what else a word
// can be.
func (a *app) completes(c *cobra.Command) {
	for _, sub := range c.Commands() {
		a.completes(sub)
	}
	if c.ValidArgsFunction == nil {
		switch {
		case strings.Contains(c.Use, "DEVICE"):
			c.ValidArgsFunction = a.known(deviceKeys)
		case strings.Contains(c.Use, "SITE"):
			c.ValidArgsFunction = a.known(siteKeysOf)
		}
	}
	fixed := func(words ...string) cobra.CompletionFunc {
		return cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)
	}
	for name, f := range map[string]cobra.CompletionFunc{
		"device": a.known(deviceKeys), "name": a.known(deviceKeys), "pdu": a.known(deviceKeys), "ups": a.known(deviceKeys), "site": a.known(siteKeysOf),
		"outlet": a.known(outletNames), "output": fixed("table", "json", "yaml", "csv"),
		"means":   fixed("command", "chassis", "wake", "panel", "poe", "output", "outlet"),
		"verdict": fixed(verdictNames()...), "until": fixed(verdictNames()...),
	} {
		if c.Flags().Lookup(name) != nil || c.PersistentFlags().Lookup(name) != nil {
			_ = c.RegisterFlagCompletionFunc(name, f) // each flag has one
		}
	}
}

func verdictNames() []string {
	out := make([]string, len(wrongFirst))
	for i, v := range wrongFirst {
		out[i] = string(v)
	}
	return out
}

// known completes by what is on the board. Without a log-in, or a service, nothing is.
func (a *app) known(of func(contract.Board) []string) cobra.CompletionFunc {
	return func(c *cobra.Command, given []string, _ string) ([]string, cobra.ShellCompDirective) {
		s, err := a.service()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		b, err := ask[contract.Board](s)(s.GetBoard(c.Context()))
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return slices.DeleteFunc(of(b), func(k string) bool { return slices.Contains(given, k) }), cobra.ShellCompDirectiveNoFileComp
	}
}

func deviceKeys(b contract.Board) []string {
	out := make([]string, len(b.Devices))
	for i, d := range b.Devices {
		out[i] = d.Key + "\t" + d.Words + " at " + d.Site
	}
	return out
}

func siteKeysOf(b contract.Board) []string {
	out := make([]string, len(b.Sites))
	for i, s := range b.Sites {
		out[i] = s.Key + "\t" + s.Name
	}
	return out
}

func outletNames(b contract.Board) (out []string) {
	for _, d := range b.Devices {
		for _, f := range d.Feeds {
			if !slices.Contains(out, f.Outlet) {
				out = append(out, f.Outlet)
			}
		}
	}
	return out
}
