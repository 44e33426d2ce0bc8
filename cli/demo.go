package cli

import "github.com/spf13/cobra"

func (a *app) demo() *cobra.Command { return &cobra.Command{Use: "demo"} }
