package render

import (
	"fmt"

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

virtual_mailbox_domains = proxy:sqlite:%[5]s/victualler-domains.cf
virtual_mailbox_maps = proxy:sqlite:%[5]s/victualler-mailboxes.cf
virtual_alias_maps = proxy:sqlite:%[5]s/victualler-addresses.cf, regexp:%[5]s/victualler-return-routes
virtual_transport = lmtp:unix:%[6]s
smtpd_relay_restrictions = permit_sasl_authenticated, reject_unauth_destination
smtpd_sender_login_maps = proxy:sqlite:%[5]s/victualler-senders.cf

# What is passed on goes to victualler-mail, and comes from it anew; so does what comes back then. The
# two domains exist here alone.
transport_maps = inline:{ {%[10]s = lmtp:unix:victualler/%[12]s}, {%[11]s = lmtp:unix:victualler/%[12]s} }
smtpd_recipient_restrictions = check_recipient_access inline:{ {%[10]s = reject}, {%[11]s = reject} },
	check_recipient_access regexp:%[5]s/victualler-returns
smtpd_restriction_classes = returns
returns = check_policy_service unix:victualler/%[13]s
authorized_submit_users = root, %[14]s
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
smtpd_tls_chain_files = %[8]s, %[9]s
smtpd_tls_loglevel = 1
smtp_tls_security_level = may
smtp_tls_loglevel = 1
tls_preempt_cipherlist = no
smtpd_tls_protocols = >=TLSv1.2
smtpd_tls_mandatory_protocols = >=TLSv1.2
`, mailHeading, s.Mail.Name, MailLog, largestMessage, postfixDir, lmtpSocket, authSocket, MailKey, MailCertificate,
		definition.ForwardDomain, definition.ReturnDomain, definition.ForwardSocket, definition.PolicySocket,
		definition.User)
	return []File{
		{Path: postfixDir + "/main.cf", Mode: 0o644, Content: main},
		{Path: postfixDir + "/master.cf", Mode: 0o644, Content: mailHeading + postfixServices},
		// Addresses that failures of what was passed on come back to ([mail.Returns]): whether one
		// is real is asked, and it leads back to whoever has sent the message.
		{Path: postfixDir + "/victualler-returns", Mode: 0o644, Content: mailHeading + "/^srs[01]=/ returns\n"},
		{Path: postfixDir + "/victualler-return-routes", Mode: 0o644,
			Content: mailHeading + "/^(srs[01]=.+)@[^@]+$/ $1@" + definition.ReturnDomain + "\n"},
		postfixTable("domains", "SELECT 1 FROM domains WHERE name = '%s'"),
		postfixTable("mailboxes", "SELECT 1 FROM mailboxes WHERE address = '%s'"),
		postfixTable("addresses", "SELECT target FROM addresses WHERE address = '%s'"),
		postfixTable("senders", "SELECT target FROM addresses WHERE address = '%s'"),
	}
}

// MailFlowBase renders what victualler-mail is told of the server.
func MailFlowBase(s manifest.Server) []File {
	if s.Mail == nil {
		return nil
	}
	text, err := definition.RenderConfig(s.Mail.Name.String(), string(s.Mail.ReturnKey))
	if err != nil {
		panic(err) // the manifest was checked
	}
	return []File{{Path: definition.ConfigFile, Mode: 0o640, Group: definition.User, Content: text, Secret: true}}
}

// postfixTable renders how Postfix asks a table (sqlite_table(5)).
func postfixTable(name, query string) File {
	return File{Path: postfixDir + "/victualler-" + name + ".cf", Mode: 0o644,
		Content: mailHeading + "dbpath = " + MailRoutes + "\nquery = " + query + "\n"}
}

// postfixServices are Postfix's programs (master(5)). Those that read tables through proxymap may
// be shut into the queue directory.
const postfixServices = `# service type  private unpriv  chroot  wakeup  maxproc command + args
smtp      inet  n       -       y       -       -       smtpd
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
	return []File{
		{Path: dovecotConf, Mode: 0o644, Content: mailHeading + fmt.Sprintf(dovecotText, s.Mail.Name, MailboxLog,
			MailCertificate, MailKey, dovecotSQL, LMTPSocket, Queue+"/"+authSocket)},
		{Path: dovecotSQL, Mode: 0o600, Content: mailHeading + fmt.Sprintf(`driver = sqlite
connect = %s
password_query = SELECT address AS user, hash AS password FROM mailboxes WHERE address = '%%Lu' AND hash <> ''
user_query = SELECT address AS user, home, uid, gid, quota_rule FROM mailboxes WHERE address = '%%Lu'
iterate_query = SELECT address AS user FROM mailboxes
`, MailSignIns)},
	}
}

const dovecotText = `protocols = imap pop3 lmtp sieve
hostname = %s
postmaster_address = postmaster@%%d
log_path = %[2]s
auth_username_format = %%Lu
auth_mechanisms = plain login
disable_plaintext_auth = yes
recipient_delimiter = +
lmtp_save_to_detail_mailbox = no
# A mailbox belongs to the user of its account's mail, of which there is no name.
first_valid_uid = 1000000001
first_valid_gid = 1000000001
mail_location = maildir:~/Maildir
mailbox_list_index = yes
mail_plugins = quota

ssl = required
ssl_cert = <%[3]s
ssl_key = <%[4]s
ssl_min_protocol = TLSv1.2

passdb {
  driver = sql
  args = %[5]s
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
service managesieve-login {
  inet_listener sieve {
    port = 4190
  }
}

protocol lmtp {
  mail_plugins = $mail_plugins sieve
}
protocol imap {
  mail_plugins = $mail_plugins imap_quota
  mail_max_userip_connections = 30
}

plugin {
  quota = count:Mailbox
  quota_vsizes = yes
  quota_status_success = DUNNO
  sieve = file:~/sieve;active=~/.dovecot.sieve
  # Filters sort mail. What they would send is not counted yet, so they send none.
  sieve_max_redirects = 0
  sieve_extensions = -vacation -enotify
}
`
