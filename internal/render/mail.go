package render

import (
	"encoding/base64"
	"fmt"
	"net"
	"path/filepath"
	"strconv"
	"strings"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
	"victualler/internal/manifest"
)

// Where mail keeps what it needs beside its configuration.
const (
	// MailRoutes and MailSignIns are SQLite files: which domains and addresses there are, read by
	// Postfix, and the mailboxes with their hashes, read by Dovecot alone.
	MailRoutes  = "/var/lib/victualler/mail/routes.db"
	MailSignIns = "/var/lib/victualler/mail/sign-ins.db"
	// MailCertificate and MailKey are the server's own.
	MailCertificate = "/etc/victualler/mail/server.pem"
	MailKey         = "/etc/victualler/mail/server.key"
	// MailLog is where Postfix writes what becomes of messages; Dovecot writes into the second.
	MailLog     = "/var/log/victualler/postfix.log"
	MailboxLog  = "/var/log/victualler/dovecot.log"
	postfixDir  = "/etc/postfix"
	dovecotConf = "/etc/dovecot/dovecot.conf"
	dovecotSQL  = "/etc/dovecot/sign-ins.conf.ext"
	programsSQL = "/etc/dovecot/program-sign-ins.conf.ext"
)

// PostfixDir is where all of Postfix's configuration is.
const PostfixDir = postfixDir

// Sockets of Dovecot within Postfix's queue directory, relative to it.
const (
	lmtpSocket = "private/victualler-lmtp"
	authSocket = "private/victualler-auth"
)

// Queue is Postfix's queue directory.
const Queue = "/var/spool/postfix"

// LMTPSocket is where Dovecot takes messages for mailboxes (RFC 2033).
const LMTPSocket = Queue + "/" + lmtpSocket

// largestMessage is the largest message in bytes that is taken, as it travels: an attachment of 50
// MB grows by a third.
const largestMessage = 70 << 20

const mailHeading = "# Written by victualler-agent from what the service says about this server.\n"

// PostfixBase renders how the server takes and sends mail. All accounts share it: what they have is
// in tables. A server without the role mail is left alone.
func PostfixBase(s manifest.Server) []File {
	if s.Mail == nil {
		return nil
	}
	chain := MailKey + ", " + MailCertificate
	if s.Mail.Certificate != nil {
		chain = issuedFile(PostfixNames)
	}
	blocklists := ""
	for _, zone := range s.Mail.Blocklists {
		blocklists += ", reject_rbl_client " + zone.String()
	}
	lifetime := ""
	if s.Mail.Days > 0 {
		lifetime = fmt.Sprintf("maximal_queue_lifetime = %dd\nbounce_queue_lifetime = %[1]dd\n", s.Mail.Days)
	}
	incoming := "\n  -o { smtpd_milters = { unix:victualler/" + definition.IncomingSocket +
		", default_action=accept } }"
	main := fmt.Sprintf(`%scompatibility_level = 3.6
myhostname = %s
myorigin = $myhostname
mydestination =
# Nobody is trusted for where they come from: sites run on this server, too.
mynetworks =
inet_interfaces = all
smtpd_banner = $myhostname ESMTP
alias_maps =
alias_database =
biff = no
append_dot_mydomain = no
maillog_file = %s
# A process that was killed before it had served anybody is taken for a broken program: another one
# is started after this, not after a minute.
service_throttle_time = 5s
# No two messages ever have the same name.
enable_long_queue_ids = yes
message_size_limit = %d
mailbox_size_limit = 0
recipient_delimiter = +
smtputf8_enable = no
disable_vrfy_command = yes
show_user_unknown_table_name = no
strict_rfc821_envelopes = yes
# What comes after one is not seen by everybody who reads a message on its way.
message_strip_characters = \0
smtpd_helo_required = yes
# Bytes that other servers take for the end of a message end none here, nor does what is sent before
# it was asked for.
smtpd_forbid_bare_newline = yes
smtpd_data_restrictions = reject_unauth_pipelining
smtpd_recipient_limit = 1000
line_length_limit = 2048

# What is found out about a message is written into it by victualler-mail alone. The score is in the
# log, too.
header_checks = regexp:%[5]s/victualler-forged
milter_header_checks = regexp:%[5]s/victualler-scores

virtual_mailbox_domains = proxy:sqlite:%[5]s/victualler-domains.cf
virtual_mailbox_maps = proxy:sqlite:%[5]s/victualler-mailboxes.cf
virtual_alias_maps = proxy:sqlite:%[5]s/victualler-addresses.cf, regexp:%[5]s/victualler-return-routes
virtual_transport = lmtp:unix:%[6]s
smtpd_relay_restrictions = permit_sasl_authenticated, reject_unauth_destination
smtpd_sender_login_maps = proxy:sqlite:%[5]s/victualler-senders.cf

# What is passed on goes to victualler-mail, and comes from it anew; so does what comes back then. The
# two domains exist here alone.
transport_maps = inline:{ {%[9]s = lmtp:unix:victualler/%[11]s}, {%[10]s = lmtp:unix:victualler/%[11]s} }
smtpd_recipient_restrictions = check_recipient_access proxy:sqlite:%[5]s/victualler-deferred.cf,
	check_recipient_access inline:{ {%[9]s = reject}, {%[10]s = reject} },
	check_recipient_access regexp:%[5]s/victualler-returns%[14]s
smtpd_restriction_classes = returns
returns = check_policy_service unix:victualler/%[12]s
authorized_submit_users = root, %[13]s
# While victualler-mail cannot be asked, mail waits.
smtpd_milters =
milter_default_action = tempfail
milter_connect_timeout = 10s
# A signature does not outlast another encoding.
disable_mime_output_conversion = yes

smtpd_sasl_type = dovecot
smtpd_sasl_path = %[7]s
smtpd_sasl_auth_enable = no
smtpd_tls_security_level = may
smtpd_tls_auth_only = yes
smtpd_tls_chain_files = %[8]s
smtpd_tls_loglevel = 1
tls_server_sni_maps = hash:%[15]s
smtp_tls_security_level = may
smtp_tls_loglevel = 1
tls_preempt_cipherlist = no
%[16]ssmtpd_tls_protocols = >=TLSv1.2
smtpd_tls_mandatory_protocols = >=TLSv1.2
`, mailHeading, s.Mail.Name, MailLog, largestMessage, postfixDir, lmtpSocket, authSocket, chain,
		definition.ForwardDomain, definition.ReturnDomain, definition.ForwardSocket, definition.PolicySocket,
		definition.User, blocklists, PostfixNameTable, lifetime)
	files := []File{
		{Path: postfixDir + "/main.cf", Mode: 0o644, Content: main},
		{Path: postfixDir + "/master.cf", Mode: 0o644, Content: mailHeading + fmt.Sprintf(postfixServices, incoming)},
		{Path: postfixDir + "/victualler-forged", Mode: 0o644, Content: mailHeading + fmt.Sprintf(`/^(%s|%s):/ IGNORE
/^%s:[[:space:]]*%s[[:space:];]/ IGNORE
`, mail.ScoreField, mail.TenthsField, mail.ResultsField, strings.ReplaceAll(s.Mail.Name.String(), ".", `\.`))},
		{Path: postfixDir + "/victualler-scores", Mode: 0o644,
			Content: mailHeading + "/^" + mail.ScoreField + ": (.*)$/ INFO $1\n"},
		// Addresses that failures of what was passed on come back to ([mail.Returns]): whether one
		// is real is asked, and it leads back to whoever has sent the message.
		{Path: postfixDir + "/victualler-returns", Mode: 0o644, Content: mailHeading + "/^srs[01]=/ returns\n"},
		{Path: postfixDir + "/victualler-return-routes", Mode: 0o644,
			Content: mailHeading + "/^(srs[01]=.+)@[^@]+$/ $1@" + definition.ReturnDomain + "\n"},
		postfixTable("domains", "SELECT 1 FROM domains WHERE name = '%s'"),
		postfixTable("mailboxes", "SELECT 1 FROM mailboxes WHERE address = '%s'"),
		postfixTable("addresses", "SELECT target FROM addresses WHERE address = '%s'"),
		postfixTable("deferred", "SELECT '450 4.2.1 mail for this domain is not taken just now; try again later' "+
			"FROM domains WHERE name = '%s' AND deferred = 1"),
		postfixTable("senders", "SELECT target FROM addresses WHERE address = '%s'"),
	}
	return append(files, issued(s, PostfixNames)...)
}

// Directories with certificates that mail programs and other servers are shown by name, one for
// each of the two programs, and [PostfixNameTable], which Postfix reads its own from.
const (
	PostfixNames     = "/etc/victualler/postfix-names"
	DovecotNames     = "/etc/victualler/dovecot-names"
	PostfixNameTable = "/var/lib/victualler/mail/names"
)

// issued renders the server's own certificate that an authority has issued.
func issued(s manifest.Server, dir string) []File {
	c := s.Mail.Certificate
	if c == nil {
		return nil
	}
	return []File{{Path: issuedFile(dir), Mode: 0o600, Secret: true, Content: string(c.Key) + c.Chain}}
}

func issuedFile(dir string) string { return dir + "/" + nameSeparator + "server.pem" }

// nameSeparator stands between the account and the name in the names of files; no account's name
// has one.
const nameSeparator = "+"

// nameFiles are the certificates for names of an account's own.
func nameFiles(m manifest.Manifest, dir string) []File {
	var files []File
	for _, c := range m.Mail.Certificates {
		files = append(files, File{Path: nameFile(m, dir, c), Mode: 0o600, Secret: true,
			Content: string(c.Key) + c.Chain})
	}
	return files
}

func nameFile(m manifest.Manifest, dir string, c manifest.NamedCertificate) string {
	return dir + "/" + m.SignInName + nameSeparator + c.Name.String() + ".pem"
}

// MailNamesOwner is the account that a file with a certificate for names of its own is of; empty
// for the server's.
func MailNamesOwner(path string) string {
	name, _, _ := strings.Cut(filepath.Base(path), nameSeparator)
	return strings.TrimSuffix(name, ".conf")
}

// NameOfFile is the name that a certificate in a directory is for.
func NameOfFile(path string) string {
	_, name, _ := strings.Cut(strings.TrimSuffix(filepath.Base(path), ".pem"), nameSeparator)
	return name
}

// PostfixFiles renders what Postfix has of one account beside its tables.
func PostfixFiles(m manifest.Manifest) []File {
	if !m.HasMail() {
		return nil
	}
	return nameFiles(m, PostfixNames)
}

// DovecotFiles renders what Dovecot has of one account beside its tables.
func DovecotFiles(m manifest.Manifest) []File {
	if !m.HasMail() || len(m.Mail.Certificates) == 0 {
		return nil
	}
	text := heading("#", m)
	for _, c := range m.Mail.Certificates {
		file := nameFile(m, DovecotNames, c)
		text += fmt.Sprintf("local_name %s {\n  ssl_cert = <%s\n  ssl_key = <%[2]s\n}\n", c.Name, file)
	}
	return append(nameFiles(m, DovecotNames), File{Path: DovecotNames + "/" + m.SignInName + ".conf", Mode: 0o644,
		Content: text})
}

// MailFlowBase renders what victualler-mail is told of the server.
func MailFlowBase(s manifest.Server) []File {
	config := definition.Config{LinkKey: octets(s.LinkKey)}
	if s.Mail != nil {
		config.Name, config.Filter, config.Leave = s.Mail.Name.String(), s.Mail.Filter != nil, s.Mail.Leave
		config.ReturnKey = octets(s.Mail.ReturnKey)
		if s.Mail.Filter != nil {
			config.Forbidden, config.JunkAbove = s.Mail.Filter.Forbidden, s.Mail.Filter.JunkAbove
		}
	} else if len(config.LinkKey) == 0 {
		return nil
	}
	return []File{{Path: definition.ConfigFile, Mode: 0o640, Group: definition.User, Content: config.Render(),
		Secret: true}}
}

// octets reads a secret in base 64, which has been checked with its manifest.
func octets(secret manifest.Secret) []byte {
	read, err := base64.StdEncoding.DecodeString(string(secret))
	if err != nil {
		panic(err)
	}
	return read
}

// MailFlowFiles renders what victualler-mail is told of an account whose sites' mail goes through
// another server.
func MailFlowFiles(m manifest.Manifest) []File {
	if !m.HasHome() || m.SendsBy == nil {
		return nil
	}
	by := definition.SendsBy{Account: m.AccountID, Key: m.SendsBy.Key,
		Address: net.JoinHostPort(m.SendsBy.Host, strconv.Itoa(definition.LinkPort))}
	return []File{{Path: definition.SitesDir + "/" + m.SignInName + ".conf", Mode: 0o640, Group: definition.User,
		Content: by.Render()}}
}

// postfixTable renders how Postfix asks a table (sqlite_table(5)).
func postfixTable(name, query string) File {
	return File{Path: postfixDir + "/victualler-" + name + ".cf", Mode: 0o644,
		Content: mailHeading + "dbpath = " + MailRoutes + "\nquery = " + query + "\n"}
}

// postfixServices are Postfix's programs (master(5)). Those that read tables through proxymap may
// be shut into the queue directory.
const postfixServices = `# service type  private unpriv  chroot  wakeup  maxproc command + args
smtp      inet  n       -       y       -       -       smtpd%s
submission inet n       -       y       -       -       smtpd
  -o syslog_name=postfix/submission
  -o smtpd_tls_security_level=encrypt
  -o smtpd_sasl_auth_enable=yes
  -o smtpd_relay_restrictions=permit_sasl_authenticated,reject
  -o smtpd_sender_restrictions=reject_sender_login_mismatch
  -o { smtpd_end_of_data_restrictions = check_policy_service unix:victualler/` + definition.PolicySocket + ` }
  -o smtpd_milters=unix:victualler/` + definition.MilterSocket + `
  -o local_header_rewrite_clients=static:all
submissions inet n      -       y       -       -       smtpd
  -o syslog_name=postfix/submissions
  -o smtpd_tls_wrappermode=yes
  -o smtpd_sasl_auth_enable=yes
  -o smtpd_relay_restrictions=permit_sasl_authenticated,reject
  -o smtpd_sender_restrictions=reject_sender_login_mismatch
  -o { smtpd_end_of_data_restrictions = check_policy_service unix:victualler/` + definition.PolicySocket + ` }
  -o smtpd_milters=unix:victualler/` + definition.MilterSocket + `
  -o local_header_rewrite_clients=static:all
pickup    unix  n       -       y       60      1       pickup
cleanup   unix  n       -       y       -       0       cleanup
qmgr      unix  n       -       n       300     1       qmgr
tlsmgr    unix  -       -       y       1000?   1       tlsmgr
rewrite   unix  -       -       y       -       -       trivial-rewrite
bounce    unix  -       -       y       -       0       bounce
defer     unix  -       -       y       -       0       bounce
trace     unix  -       -       y       -       0       bounce
verify    unix  -       -       y       -       1       verify
flush     unix  n       -       y       1000?   0       flush
proxymap  unix  -       -       n       -       -       proxymap
proxywrite unix -       -       n       -       1       proxymap
smtp      unix  -       -       y       -       -       smtp
relay     unix  -       -       y       -       -       smtp
  -o syslog_name=postfix/relay
showq     unix  n       -       y       -       -       showq
error     unix  -       -       y       -       -       error
retry     unix  -       -       y       -       -       error
discard   unix  -       -       y       -       -       discard
local     unix  -       n       n       -       -       local
virtual   unix  -       n       n       -       -       virtual
lmtp      unix  -       -       y       -       -       lmtp
anvil     unix  -       -       y       -       1       anvil
scache    unix  -       -       y       -       1       scache
postlog   unix-dgram n  -       n       -       1       postlogd
`

// DovecotBase renders how mailboxes are kept and read. All accounts share it: the mailboxes are in
// a table. A server without the role mail is left alone.
func DovecotBase(s manifest.Server) []File {
	if s.Mail == nil {
		return nil
	}
	key, certificate := MailKey, MailCertificate
	if s.Mail.Certificate != nil {
		key, certificate = issuedFile(DovecotNames), issuedFile(DovecotNames)
	}
	junk := mail.MostScore
	if s.Mail.Filter != nil {
		junk = s.Mail.Filter.JunkAbove
	}
	return append(issued(s, DovecotNames), []File{
		{Path: dovecotConf, Mode: 0o644, Content: mailHeading + fmt.Sprintf(dovecotText, s.Mail.Name, MailboxLog,
			certificate, key, dovecotSQL, LMTPSocket, Queue+"/"+authSocket, SieveDir, sievePrograms,
			junk, DovecotNames, programsSQL, definition.User, filterDict, FilterName)},
		{Path: dovecotSQL, Mode: 0o600, Content: mailHeading + fmt.Sprintf(`driver = sqlite
connect = %s
password_query = SELECT address AS user, hash AS password FROM mailboxes WHERE address = '%%Lu' AND hash <> ''
user_query = SELECT address AS user, home, uid, gid, quota_rule, NULLIF(junk_above, 0) AS sieve_env_junk_above, language AS mail_language FROM mailboxes WHERE address = '%%Lu'
iterate_query = SELECT address AS user FROM mailboxes
`, MailSignIns)},
		{Path: programsSQL, Mode: 0o600, Content: mailHeading + fmt.Sprintf(`driver = sqlite
connect = %s
# A password for one program begins with the key of its row.
password_query = SELECT address AS user, hash AS password FROM passwords WHERE address = '%%Lu' AND key = substr('%%w', 1, 8)
`, MailSignIns)},
		{Path: filterDict, Mode: 0o600, Content: mailHeading + fmt.Sprintf(filterDictText, MailSignIns)},
		{Path: SieveDir + "/junk.sieve", Mode: 0o644, Content: mailHeading + junkSieve},
		{Path: SieveDir + "/spam.sieve", Mode: 0o644, Content: mailHeading + spamSieve},
		{Path: SieveDir + "/ham.sieve", Mode: 0o644, Content: mailHeading + hamSieve},
		{Path: sievePrograms + "/teach", Mode: 0o755, Content: "#!/bin/sh\n" + mailHeading + programPath +
			`exec victualler-mail teach "$1"` + "\n"},
		{Path: sievePrograms + "/full", Mode: 0o755, Content: "#!/bin/sh\n" + mailHeading + programPath +
			`exec victualler-mail full "$1" "$2" "$3"` + "\n"},
	}...)
}

// FilterName is how the filters of a mailbox are called that its holder has put together.
const FilterName = "filters"

// filterDict says how Dovecot finds them: by the mailbox, in the table of sign-ins.
const (
	filterDict     = "/etc/dovecot/filters.conf.ext"
	filterDictText = `connect = %s
map {
  pattern = priv/sieve/name/$name
  table = filters
  username_field = address
  value_field = id
  fields {
    name = $name
  }
}
map {
  pattern = priv/sieve/data/$id
  table = filters
  username_field = address
  value_field = script
  fields {
    id = $id
  }
}
`
)

// SieveDir is where the filters are that all mailboxes share; they are compiled by sievec(1).
const SieveDir = "/etc/victualler/sieve"

// sievePrograms is the directory of the programs that these filters may run.
const sievePrograms = "/etc/victualler/sieve-programs"

// programPath has a program found that Dovecot starts with hardly any environment.
const programPath = "export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin\n"

// The filters of all mailboxes: what is spam goes to Junk; and whoever moves a message to Junk, or
// out of it, teaches the spam filter.
const (
	junkSieve = `require ["comparator-i;ascii-numeric", "environment", "fileinto", "mailbox", "relational", "variables",
	"vnd.dovecot.environment"];

if allof (
	header :matches "Spam-Tenths" "*",
	header :value "ge" :comparator "i;ascii-numeric" "Spam-Tenths" "${env.vnd.dovecot.config.junk_above}"
) {
	fileinto :create "Junk";
	stop;
}
`
	spamSieve = `require ["copy", "imapsieve", "vnd.dovecot.pipe"];

pipe :copy :try "teach" "spam";
`
	hamSieve = `require ["copy", "environment", "imapsieve", "variables", "vnd.dovecot.pipe"];

if environment :matches "imap.mailbox" ["Trash", "Trash/*"] {
	stop;
}
pipe :copy :try "teach" "ham";
`
)

const dovecotText = `protocols = imap pop3 lmtp sieve
hostname = %s
postmaster_address = postmaster@%%d
log_path = %[2]s
auth_username_format = %%Lu
auth_mechanisms = plain login
disable_plaintext_auth = yes
recipient_delimiter = +
lmtp_save_to_detail_mailbox = no
# What does not fit waits with us, and goes back to its sender after some days.
quota_full_tempfail = yes
# A mailbox belongs to the user of its account's mail, of which there is no name.
first_valid_uid = 1000000001
first_valid_gid = 1000000001
mail_location = maildir:~/Maildir
mailbox_list_index = yes
mail_plugins = quota fts fts_xapian

ssl = required
ssl_cert = <%[3]s
ssl_key = <%[4]s
ssl_min_protocol = TLSv1.2

passdb {
  driver = sql
  args = %[5]s
}
passdb {
  driver = sql
  args = %[12]s
}
userdb {
  driver = sql
  args = %[5]s
}

namespace inbox {
  inbox = yes
  separator = /
  mailbox Drafts {
    special_use = \Drafts
    auto = subscribe
  }
  mailbox Sent {
    special_use = \Sent
    auto = subscribe
  }
  mailbox Trash {
    special_use = \Trash
    auto = subscribe
  }
  mailbox Junk {
    special_use = \Junk
    auto = subscribe
  }
  mailbox Archive {
    special_use = \Archive
    auto = no
  }
}

service lmtp {
  unix_listener %[6]s {
    mode = 0600
    user = postfix
    group = postfix
  }
}
service auth {
  unix_listener %[7]s {
    mode = 0600
    user = postfix
    group = postfix
  }
}
# What these may map, of which they use little: our program that teaches the filter runs within the
# first, and the second builds the index of words.
service imap {
  vsz_limit = 1G
}
service indexer-worker {
  vsz_limit = 2G
}
# Tells the holder of a mailbox that it is getting full.
service full {
  executable = script %[9]s/full
  user = %[13]s
  vsz_limit = 1G
  unix_listener full {
    mode = 0666
  }
}
# Filters that holders have put together are rows, which the process of a mailbox asks for.
dict {
  filters = sqlite:%[14]s
}
service dict {
  user = root
  unix_listener dict {
    mode = 0660
    group = mail
  }
}
mail_access_groups = mail
service managesieve-login {
  inet_listener sieve {
    port = 4190
  }
}

protocol lmtp {
  mail_plugins = $mail_plugins sieve
}
protocol imap {
  mail_plugins = $mail_plugins imap_quota imap_sieve
  mail_max_userip_connections = 30
}

plugin {
  quota = count:Mailbox
  quota_vsizes = yes
  quota_warning = storage=100%%%% full 100 %%u %%{userdb:mail_language}
  quota_warning2 = storage=95%%%% full 95 %%u %%{userdb:mail_language}
  quota_warning3 = storage=80%%%% full 80 %%u %%{userdb:mail_language}
  sieve = file:~/sieve;active=~/.dovecot.sieve
  # Filters sort mail. What they would send would not be counted, so they send none, failures neither.
  sieve_max_redirects = 0
  sieve_extensions = -vacation -enotify -reject -ereject
  sieve_before = %[8]s/junk.sieve
  # Before the script that a mail program has put there, if there is one: that one goes on.
  sieve_before2 = dict:proxy::filters;name=%[15]s
  sieve_env_junk_above = %[10]d
  sieve_plugins = sieve_imapsieve sieve_extprograms
  sieve_global_extensions = +vnd.dovecot.pipe +vnd.dovecot.environment
  sieve_pipe_bin_dir = %[9]s
  imapsieve_mailbox1_name = Junk
  imapsieve_mailbox1_causes = COPY
  imapsieve_mailbox1_before = file:%[8]s/spam.sieve
  imapsieve_mailbox2_name = *
  imapsieve_mailbox2_from = Junk
  imapsieve_mailbox2_causes = COPY
  imapsieve_mailbox2_before = file:%[8]s/ham.sieve

  # Words are found without reading every message.
  fts = xapian
  fts_xapian = partial=3 full=20
  fts_autoindex = yes
  fts_autoindex_exclude = \Junk
  fts_autoindex_exclude2 = \Trash
  fts_enforced = no
}

# Names of customers' own that mail programs may ask for.
!include_try %[11]s/*.conf
`
