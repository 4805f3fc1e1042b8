package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/evidence"
)

func (a *app) evidenceCmd() *cobra.Command {
	c := &cobra.Command{Use: "evidence", Short: "Signed records of recoveries that were tried"}
	c.AddCommand(&cobra.Command{Use: "list", Short: "The register of this site's evidence, newest first, and the key that signs it", Args: cobra.NoArgs, Example: "  kestrel evidence list",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			v, err := read[api.EvidenceRegister](c.ListEvidence(cmd.Context()))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) {
				row(w, "NUMBER", "OF", "GROUP", "RESULT", "MADE", "SHA-256")
				for _, e := range v.Items {
					row(w, e.Number, e.Kind, e.GroupName, e.Result, clockTime(&e.MadeAt), e.Hash[:16]+"…")
				}
				row(w)
				row(w, "Key of "+v.Site+": "+v.Fingerprint)
			})
		})},
		&cobra.Command{Use: "write NUMBER FILE", Short: "Write evidence (its number, or a drill's ID or group) to a file: .json is signed, .pdf is for people", Args: cobra.ExactArgs(2), Example: "  kestrel evidence write 1 drill.json\n  kestrel evidence write 1 drill.pdf",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				format := strings.TrimPrefix(strings.ToLower(filepath.Ext(args[1])), ".")
				if format != "json" && format != "pdf" {
					return usage("%s: the file ends with .json or .pdf", args[1])
				}
				res, err := c.GetEvidence(cmd.Context(), args[0], &api.GetEvidenceParams{Format: &format})
				if err != nil {
					return err
				}
				return a.saveAnswer(res, args[1], evidence.MaxFile)
			})},
		a.evidenceVerifyCmd())
	return c
}

func (a *app) evidenceVerifyCmd() *cobra.Command {
	var key string
	c := &cobra.Command{Use: "verify FILE...", Short: "Check signed evidence, without any service", Args: cobra.MinimumNArgs(1),
		Long: `Check signed evidence: that nothing of it was changed, with which key it was signed, and of
several, in this order, that each follows on the one before.

No service is asked. With --key it has to be signed by the key of that fingerprint, which
stands in kestrel evidence list at the site.`,
		Example: "  kestrel evidence verify drill.json\n  kestrel evidence verify 1.json 2.json --key 5f0c…",
		RunE: func(_ *cobra.Command, args []string) error {
			var all []evidence.Signed
			for _, path := range args {
				s, err := readEvidence(path)
				if err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
				if is := evidence.Fingerprint(s.Key); key != "" && !strings.EqualFold(is, key) {
					return fmt.Errorf("%s: it was signed by another key, %s", path, is)
				}
				if n := len(all); n > 0 {
					if err := s.Follows(all[n-1]); err != nil {
						return fmt.Errorf("%s: %w", path, err)
					}
				}
				all = append(all, s)
			}
			return a.emit(all, func(w *tabwriter.Writer) {
				row(w, "NUMBER", "SITE", "OF", "GROUP", "RESULT", "MADE", "KEY")
				for _, s := range all {
					row(w, s.Number, s.Site, s.Kind, s.Group, s.Result, clockTime(&s.MadeAt), evidence.Fingerprint(s.Key))
				}
				row(w)
				if len(all) > 1 {
					row(w, "The signatures are good, and each follows on the one before.")
				} else {
					row(w, "The signature is good.")
				}
			})
		}}
	c.Flags().StringVar(&key, "key", "", "fingerprint of the key that it has to be signed by")
	return c
}

func readEvidence(path string) (evidence.Signed, error) {
	f, err := os.Open(path)
	if err != nil {
		return evidence.Signed{}, errors.Unwrap(err)
	}
	defer func() { _ = f.Close() }()
	b, err := io.ReadAll(io.LimitReader(f, evidence.MaxFile+1))
	if err != nil {
		return evidence.Signed{}, err
	}
	return evidence.Read(b)
}
