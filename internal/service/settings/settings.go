package settings

import (
	"context"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/dns"
	"victualler/internal/service/notify"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Settings returns the installation's settings.
func (s *Service) Settings(ctx context.Context) (api.Settings, error) {
	row, err := s.Store.Settings(ctx)
	return settingsView(row), err
}

func settingsView(row db.Setting) api.Settings {
	return api.Settings{Title: row.Title, Console: row.Console, NameServers: usecase.NonNil(row.NameServers),
		SecondFactor:   usecase.NonNil(row.SecondFactor),
		SessionMinutes: int(row.SessionMinutes), MailServer: row.MailServer, MailSecurity: row.MailSecurity,
		MailName:     row.MailName,
		MailPassword: row.MailPassword != nil, Sender: row.Sender, ChallengeZone: row.ChallengeZone,
		DomainProof: row.DomainProof, MailDays: int(row.MailDays), Spam: spamView(row),
		KitKeys: usecase.NonNil(row.KitKeys), Version: row.Version}
}

// ChangeSettings changes settings. Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, ServerUnreachable.
// Locks: the settings.
func (s *Service) ChangeSettings(ctx context.Context, a usecase.Actor, version int64,
	in api.SettingsChange) (api.Settings, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Settings, error) {
		none := api.Settings{}
		row, err := usecase.LockSettings(ctx, tx)
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("the settings", version, row.Version); err != nil {
			return none, err
		}
		p := db.SaveSettingsParams{Title: row.Title, Console: row.Console, NameServers: row.NameServers,
			SecondFactor: row.SecondFactor, SessionMinutes: row.SessionMinutes,
			MailServer: row.MailServer, MailSecurity: row.MailSecurity, MailName: row.MailName,
			MailPassword: row.MailPassword, Sender: row.Sender, ChallengeZone: row.ChallengeZone,
			DomainProof: row.DomainProof, JunkAbove: row.JunkAbove, RefuseAbove: row.RefuseAbove,
			Greylisting: row.Greylisting, Blocklists: row.Blocklists, ForbiddenAttachments: row.ForbiddenAttachments,
			VirusScanner: row.VirusScanner, MailDays: row.MailDays, KitKeys: row.KitKeys}
		if err := s.readSettings(&p, in); err != nil {
			return none, err
		}
		if in.Spam != nil {
			if err := readSpam(&p, *in.Spam); err != nil {
				return none, err
			}
		}
		if in.Spam != nil || in.MailDays != nil {
			a.Note("mail servers take this over within a minute")
		}
		if in.ChallengeZone != nil {
			if p.ChallengeZone, err = challengeZone(ctx, tx, *in.ChallengeZone); err != nil {
				return none, err
			}
		}
		after, err := tx.SaveSettings(ctx, p)
		if err != nil {
			return none, err
		}
		a.Summarize("change the settings")
		b, v := settingsView(row), settingsView(after)
		b.Version, v.Version = 0, 0
		out := settingsView(after)
		var accounts []int64
		if row.Title != after.Title {
			// Servers show it on pages of their own.
			if accounts, err = tx.AccountsOfOwner(ctx, nil); err != nil {
				return none, err
			}
		}
		if !slices.Equal(row.NameServers, after.NameServers) {
			named, err := dns.ZonesOfOwner(ctx, tx, a, nil)
			if err != nil {
				return none, err
			}
			if len(after.NameServers) == 0 && len(named) > 0 {
				return none, refusal.Input("name_servers", "the zones of %s name these servers: they cannot be "+
					"without any", usecase.Counted(len(named), "account"))
			}
			accounts = append(accounts, named...)
			slices.Sort(accounts)
			accounts = slices.Compact(accounts)
		}
		if out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, "settings.change", usecase.About("settings"),
			accounts); err != nil {
			return none, err
		}
		return out, usecase.Record(ctx, tx, a, "settings.change", usecase.About("settings"), b, v)
	})
}

func (s *Service) readSettings(p *db.SaveSettingsParams, in api.SettingsChange) error {
	if in.Title != nil {
		if p.Title = usecase.OneLine(*in.Title); p.Title == "" {
			return refusal.Input("title", "an installation needs a title: people see it where they sign in")
		}
	}
	if in.Console != nil {
		p.Console = strings.TrimRight(strings.TrimSpace(*in.Console), "/")
		if u, err := url.Parse(p.Console); p.Console != "" &&
			(err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.Path != "") {
			return refusal.Input("console", "%q is not an address; write it as https://console.ternisland.example",
				*in.Console)
		}
	}
	if in.NameServers != nil {
		list, err := dns.NameServerNames(*in.NameServers)
		if r := refusal.As(err); r != nil {
			return r.On("name_servers")
		}
		p.NameServers = list
	}
	if in.SecondFactor != nil {
		p.SecondFactor = []string{}
		for _, role := range []rights.Role{rights.Operator, rights.Reseller, rights.Customer} {
			if slices.Contains(*in.SecondFactor, string(role)) {
				p.SecondFactor = append(p.SecondFactor, string(role))
			}
		}
		if len(p.SecondFactor) != len(*in.SecondFactor) {
			return refusal.Input("second_factor", "the roles are operator, reseller and customer")
		}
	}
	if in.MailDays != nil {
		p.MailDays = int32(*in.MailDays)
	}
	if in.KitKeys != nil {
		p.KitKeys = []string{}
		for _, text := range *in.KitKeys {
			k, err := kits.ParseKey(text)
			if err != nil {
				return refusal.Input("kit_keys", "%s", err)
			}
			if !slices.Contains(p.KitKeys, k.Text) {
				p.KitKeys = append(p.KitKeys, k.Text)
			}
		}
	}
	if in.SessionMinutes != nil {
		p.SessionMinutes = int32(*in.SessionMinutes)
	}
	if in.MailServer != nil {
		p.MailServer = strings.TrimSpace(*in.MailServer)
		host, port, err := net.SplitHostPort(p.MailServer)
		if n, perr := strconv.Atoi(port); p.MailServer != "" &&
			(err != nil || host == "" || perr != nil || n < 1 || n > 65535) {
			return refusal.Input("mail_server", "%q is not host:port, such as mail.ternisland.example:587",
				p.MailServer)
		}
	}
	if in.MailSecurity != nil {
		p.MailSecurity = *in.MailSecurity
	}
	if in.DomainProof != nil {
		p.DomainProof = *in.DomainProof
	}
	if in.MailName != nil {
		p.MailName = strings.TrimSpace(*in.MailName)
	}
	if in.MailPassword != nil {
		p.MailPassword = nil
		if *in.MailPassword != "" {
			p.MailPassword = s.Key.Seal(notify.SealedMailPassword, []byte(*in.MailPassword))
		}
	}
	if p.MailName != "" && p.MailSecurity == "none" {
		if host, _, err := net.SplitHostPort(p.MailServer); err == nil && host != "localhost" &&
			!net.ParseIP(host).IsLoopback() {
			return refusal.Input("mail_security", "a password is not sent to %s in clear; take tls or starttls", host)
		}
	}
	if in.Sender != nil {
		address, err := usecase.MailAddress("sender", strings.TrimSpace(*in.Sender))
		if err != nil {
			return err
		}
		p.Sender = ""
		if address != nil {
			p.Sender = *address
		}
	}
	return nil
}

// challengeZone checks a name under which domains elsewhere have their names proved: it lies in a
// zone of an operator's own that is here.
func challengeZone(ctx context.Context, tx store.Tx, typed string) (string, error) {
	if strings.TrimSpace(typed) == "" {
		return "", nil
	}
	d, _, err := names.ParseDomain(typed)
	if err != nil {
		return "", refusal.Input("challenge_zone", "%v", err)
	}
	in, err := tx.ChallengeZone(ctx, d.String())
	if store.None(err) || err == nil && in.ResellerID != nil {
		return "", refusal.Input("challenge_zone", "%s lies in no zone of your own whose DNS is hosted here: take "+
			"a name such as challenges. before a domain of yours", d)
	}
	return d.String(), err
}
