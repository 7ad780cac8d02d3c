package daemon

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/service"
)

func backupCommand() *cobra.Command {
	var withoutKey bool
	dir := "data"
	c := &cobra.Command{
		Use: "backup [FILE]", Short: "Back up a service that runs",
		Long: `Write the database, as it is at one moment, and the files beside it into a gzipped tar
archive, while the service runs. With the key of the secrets, which --without-key
leaves out, whoever has the backup has the secrets. A service with another database
(--database) is backed up with the tools of that, and a copy of secrets.key.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, given []string) error {
			file := service.BackupName(time.Now())
			if len(given) == 1 {
				file = given[0]
			}
			if err := service.Backup(c.Context(), dir, file, !withoutKey); err != nil {
				return err
			}
			info, err := os.Stat(file)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: %d kB\n", file, info.Size()>>10)
			return nil
		},
	}
	c.Flags().StringVar(&dir, "data-dir", dir, "where the records are")
	c.Flags().BoolVar(&withoutKey, "without-key", false, "leave the key of the secrets out: keep it elsewhere")
	return c
}

func restoreCommand() *cobra.Command {
	dir, level := "data", "warn"
	c := &cobra.Command{
		Use: "restore FILE", Short: "Make a data directory out of a backup",
		Long: "Make a data directory, which must not be there yet, out of a backup, and go through its\njournal. Start the service with it afterwards.",
		Args: exactly(1, "plumbd restore FILE --data-dir DIRECTORY"),
		RunE: func(c *cobra.Command, given []string) error {
			log, err := NewLog(os.Stderr, level)
			if err != nil {
				return err
			}
			got, err := service.Restore(c.Context(), given[0], dir, log)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is restored: estate version %d, %d entries of the journal.\n", dir, got.Estate, got.Journal.N)
			if n := len(got.Journal.Open); n > 0 {
				return fmt.Errorf("the journal does not hold, at %d places: plumb journal verify lists them", n)
			}
			fmt.Fprintf(c.OutOrStdout(), "The journal holds; its head, at entry %d:\n  %s\n", got.Journal.Last, got.Journal.Head)
			if !got.Key {
				fmt.Fprintln(c.OutOrStdout(), "The key of the secrets is not in it: bring secrets.key back before the service starts, or set the secrets again.")
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "data-dir", dir, "the directory that is made")
	c.Flags().StringVar(&level, "log", level, "what to log")
	return c
}
