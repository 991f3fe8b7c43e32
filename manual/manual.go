// Package manual writes the manual pages of a program, from its commands.
package manual

import (
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"rotanex.example/core/version"
)

// Command writes a manual page for a program and each of its commands into a folder. It is for who makes
// packages, and not listed.
func Command() *cobra.Command {
	return &cobra.Command{
		Use: "manual FOLDER", Short: "Write the manual pages into a folder", Args: cobra.ExactArgs(1), Hidden: true,
		Example: "  rotanex manual /usr/local/share/man/man1",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true // the same program gives the same pages
			return doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Rotanex " + version.Ours, Manual: "Rotanex"}, args[0])
		},
	}
}
