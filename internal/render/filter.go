package render

import (
	"fmt"
	"strings"

	"victualler/internal/mailflow/definition"
	"victualler/internal/manifest"
)

const (
	// FilterConfig is the configuration of rspamd, and filterRules what we say of its rules.
	FilterConfig = "/etc/rspamd/rspamd.conf"
	filterRules  = "/etc/rspamd/victualler.conf"
	// MemoryConfig is the configuration of Redis, which keeps what rspamd has learnt.
	MemoryConfig = "/etc/redis/redis.conf"
	// MemorySocket is where Redis listens. Its group may speak to it, which rspamd is in; sites,
	// which run on the same server, may not.
	MemorySocket = "/run/redis/victualler.sock"
)

// MemoryBase renders Redis' configuration.
func MemoryBase(s manifest.Server) []File {
	if s.Mail == nil || s.Mail.Filter == nil {
		return nil
	}
	return []File{{Path: MemoryConfig, Mode: 0o640, Group: "redis", Content: mailHeading + `port 0
unixsocket ` + MemorySocket + `
unixsocketperm 770
dir /var/lib/redis
save 300 50
maxmemory 128mb
maxmemory-policy volatile-lru
supervised auto
pidfile /run/redis/victualler.pid
`}}
}

// FilterBase renders how rspamd judges messages. It asks nobody outside but public DNS: lists of
// others are used only where somebody has chosen them.
func FilterBase(s manifest.Server) []File {
	if s.Mail == nil || s.Mail.Filter == nil {
		return nil
	}
	f := s.Mail.Filter
	rules := fmt.Sprintf(`redis { servers = "%s"; }
actions {
  reject = %s;
  add_header = %s;
%s}
dmarc {
  actions { reject = "reject"; }
}
milter_headers { use = []; }
arc {
  sign_authenticated = false;
  sign_inbound = false;
  sign_local = false;
}
`, MemorySocket, points(f.RefuseAbove), points(f.JunkAbove), greylistAction(f))
	if f.Greylisting {
		rules += "greylist {\n  expire = 1d;\n  timeout = 5min;\n  ipv4_mask = 24;\n  ipv6_mask = 64;\n}\n"
	}
	if f.Scanner != "" {
		rules += fmt.Sprintf(`antivirus {
  scanner {
    type = "clamav";
    symbol = "VIRUS";
    action = "reject";
    message = "it carries malware";
    servers = "%s";
    scan_mime_parts = false;
  }
}
`, f.Scanner)
	}
	for _, module := range unusedModules {
		if module == "greylist" && f.Greylisting {
			continue
		}
		rules += module + " { enabled = false; }\n"
	}
	return []File{{Path: filterRules, Mode: 0o644, Content: mailHeading + rules},
		{Path: FilterConfig, Mode: 0o644, Content: mailHeading + fmt.Sprintf(filterText, definition.FilterDir,
			definition.JudgeSocket, definition.TeachSocket)}}
}

// unusedModules ask others about what people here get, change messages, or do what Postfix and
// victualler-mail do.
var unusedModules = []string{"asn", "bimi", "dcc", "dkim_signing", "fuzzy_check", "greylist",
	"history_redis", "mx_check", "neural", "p0f", "ratelimit", "rbl", "replies", "reputation",
	"rspamd_update", "spamassassin", "surbl", "url_redirector"}

// greylistAction is the score from which on a message is suspicious: between none and Junk.
func greylistAction(f *manifest.MailFilter) string {
	if !f.Greylisting {
		return ""
	}
	return "  greylist = " + points(f.JunkAbove*2/3) + ";\n"
}

// points is a score in tenths as points.
func points(tenths int) string {
	return strings.TrimSuffix(fmt.Sprintf("%d.%d", tenths/10, tenths%10), ".0")
}

const filterText = `.include "$CONFDIR/common.conf"
.include(priority=10) "$CONFDIR/victualler.conf"

options {
  filters = "chartable,dkim,regexp";
  # Nobody is trusted for where they come from.
  local_addrs = ["127.0.0.1", "::1"];
  control_socket = "$DBDIR/control.sock mode=0600";
  cache_file = "$DBDIR/symbols.cache";
  hs_cache_dir = "$DBDIR/";
  url_tld = "$SHAREDIR/effective_tld_names.dat";
  history_rows = 1;
  explicit_modules = ["settings", "bayes_expiry"];
  allow_raw_input = true;
  task_timeout = 8s;
  max_message = 100Mb;
  max_recipients = 1024;
  words_decay = 600;
  dns {
    timeout = 2s;
    retransmits = 3;
    sockets = 16;
  }
}

logging {
  type = "file";
  filename = "$LOGDIR/rspamd.log";
  level = "notice";
}

# Others are kept out by the directory.
worker "normal" {
  bind_socket = "%[1]s/%[2]s mode=0666";
  mime = true;
  count = 2;
}
worker "controller" {
  bind_socket = "%[1]s/%[3]s mode=0666";
  count = 1;
}
`
