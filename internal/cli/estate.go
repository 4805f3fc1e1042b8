package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/estate"
)

func (a *app) applyCmd() *cobra.Command {
	var file string
	var dry, dropPoints bool
	c := &cobra.Command{Use: "apply", Short: "Make a site what a file says, all of it or nothing", Args: cobra.NoArgs,
		Long: `Reads documents of YAML, one for each tier, group, berth, link and machine that is left out on purpose, and makes the
site so. What is in no document stays as it is. Applied again it changes nothing.`,
		Example: "  kestrel apply -f norhaven.yaml --dry-run\n  kestrel apply -f norhaven.yaml\n  kestrel export | kestrel -p other apply -f - --dry-run",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			text, err := readFile(cmd.InOrStdin(), file)
			if err != nil {
				return err
			}
			v, err := read[api.Applied](c.ApplyEstate(cmd.Context(), api.ApplyRequest{Text: string(text), DryRun: &dry, DropPoints: &dropPoints}))
			if err != nil {
				return err
			}
			if err := a.emit(v, func(w *tabwriter.Writer) { applied(w, file, v, dry) }); err != nil {
				return err
			}
			if len(v.Faults) > 0 {
				return fmt.Errorf("%s; nothing was changed", count(len(v.Faults), "error"))
			}
			return nil
		})}
	c.Flags().StringVarP(&file, "file", "f", "", "the file; - reads standard input")
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what it would change")
	c.Flags().BoolVar(&dropPoints, "drop-points", false, "allow that shorter keep ladders drop points at once")
	_ = c.MarkFlagRequired("file")
	return c
}

func readFile(stdin io.Reader, file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(stdin, estate.MaxText+1))
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, usage("--file: %v", err)
	}
	return text, nil
}

func applied(w *tabwriter.Writer, file string, v api.Applied, dry bool) {
	for _, f := range v.Faults {
		row(w, fmt.Sprintf("✕ %s:%d:%d", file, f.Line, f.Column), f.Document, f.Message)
	}
	n := 0
	for _, d := range v.Documents {
		if d.Action == "as it is" {
			continue
		}
		n++
		row(w, map[string]string{"make": "+", "change": "~"}[d.Action]+" "+d.Kind, d.Name)
		for _, c := range d.Changes {
			row(w, "", fmt.Sprintf("  %s: %s → %s", c.Field, c.From, c.To))
		}
		for _, x := range d.Warnings {
			row(w, "", "  ! "+x)
		}
		if d.DropsPoints > 0 {
			row(w, "", fmt.Sprintf("  ! drops %s at once", count(d.DropsPoints, "point")))
		}
	}
	same := len(v.Documents) - n
	switch {
	case len(v.Faults) > 0:
		return
	case n == 0:
		row(w, fmt.Sprintf("Nothing to change: %s as they are.", count(same, "document")))
	case dry:
		row(w, fmt.Sprintf("Would change %s; %d as they are. Nothing was changed.", count(n, "document"), same))
	default:
		row(w, fmt.Sprintf("Changed %s; %d as they are.", count(n, "document"), same))
	}
}

func (a *app) exportCmd() *cobra.Command {
	var site, file string
	c := &cobra.Command{Use: "export", Short: "Write the settings of a site as a file that apply reads", Args: cobra.NoArgs,
		Example: "  kestrel export > norhaven.yaml\n  kestrel -p eastmole export --as-seen-from Norhaven",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[api.EstateFile](c.ExportEstate(cmd.Context(), &api.ExportEstateParams{AsSeenFrom: strOr(site)}))
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.emit(v, nil)
			}
			if file != "" {
				if err := os.WriteFile(file, []byte(v.Text), 0o600); err != nil {
					return fmt.Errorf("write the file: %w", err)
				}
				return a.did("Written to %s.", file)
			}
			_, err = io.WriteString(a.Out, v.Text)
			return err
		})}
	c.Flags().StringVar(&site, "as-seen-from", "", "write what is known here of this paired site's settings, as it would read them")
	c.Flags().StringVarP(&file, "file", "f", "", "write to a file")
	return c
}

func (a *app) schemaCmd() *cobra.Command {
	return &cobra.Command{Use: "schema", Short: "JSON Schema of the files that apply reads, for editors", Args: cobra.NoArgs, Example: "  kestrel schema > kestrel.schema.json",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[map[string]any](c.GetEstateSchema(cmd.Context()))
			if err != nil {
				return err
			}
			b, err := json.MarshalIndent(v, "", "  ")
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.Out, string(b))
			return err
		})}
}
