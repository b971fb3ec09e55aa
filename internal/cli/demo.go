package cli

import "github.com/spf13/cobra"

func newDemo() *cobra.Command    { return &cobra.Command{Use: "demo"} }
func newStandIn() *cobra.Command { return &cobra.Command{Use: "stand-in", Hidden: true} }
