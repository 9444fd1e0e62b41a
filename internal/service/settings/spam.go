package settings

import (
	"math"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

func spamView(row db.Setting) api.Spam {
	return api.Spam{JunkAbove: float64(row.JunkAbove) / 10, RefuseAbove: float64(row.RefuseAbove) / 10,
		Greylisting: row.Greylisting, Blocklists: usecase.NonNil(row.Blocklists),
		Forbidden: usecase.NonNil(row.ForbiddenAttachments), Scanner: row.VirusScanner}
}

// readSpam reads what is to be done about unwanted messages.
//
// Refusals: InvalidInput.
func readSpam(p *db.SaveSettingsParams, in api.SpamChange) error {
	if in.JunkAbove != nil {
		p.JunkAbove = int32(math.Round(*in.JunkAbove * 10))
	}
	if in.RefuseAbove != nil {
		p.RefuseAbove = int32(math.Round(*in.RefuseAbove * 10))
	}
	if p.RefuseAbove < p.JunkAbove {
		return refusal.Input("spam.refuse_above", "messages are refused from %.1f points on, which are fewer than the "+
			"%.1f from which on they go to Junk", float64(p.RefuseAbove)/10, float64(p.JunkAbove)/10)
	}
	if in.Greylisting != nil {
		p.Greylisting = *in.Greylisting
	}
	if in.Blocklists != nil {
		p.Blocklists = []string{}
		for _, typed := range *in.Blocklists {
			d, _, err := names.ParseDomain(typed)
			if err != nil {
				return refusal.Input("spam.blocklists", "%v", err)
			}
			if !slices.Contains(p.Blocklists, d.String()) {
				p.Blocklists = append(p.Blocklists, d.String())
			}
		}
	}
	if in.Forbidden != nil {
		p.ForbiddenAttachments = []string{}
		for _, typed := range *in.Forbidden {
			e := strings.TrimPrefix(strings.ToLower(strings.TrimSpace(typed)), ".")
			if !mail.ExtensionForm.MatchString(e) {
				return refusal.Input("spam.forbidden", "%q is no end of a name; write what follows the last dot, "+
					"such as exe", typed)
			}
			if !slices.Contains(p.ForbiddenAttachments, e) {
				p.ForbiddenAttachments = append(p.ForbiddenAttachments, e)
			}
		}
	}
	if in.Scanner != nil {
		if p.VirusScanner = strings.TrimSpace(*in.Scanner); p.VirusScanner != "" &&
			!mail.ScannerForm.MatchString(p.VirusScanner) {
			return refusal.Input("spam.scanner", "%q is neither a path nor host:port, such as /run/clamav/clamd.ctl "+
				"or 192.0.2.5:3310", p.VirusScanner)
		}
	}
	return nil
}
