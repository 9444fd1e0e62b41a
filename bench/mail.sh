# A mail server set up by hand, from Debian's packages: Postfix and Dovecot, with mailboxes in files,
# bounds on their size, filters and an index of words.
#   mail.sh setup NAME        begin
#   mail.sh add ADDRESS PASSWORD
case $1 in
setup)
	mkdir -p /etc/mail-by-hand /srv/mail
	id vmail >/dev/null 2>&1 || useradd --system --home-dir /srv/mail --shell /usr/sbin/nologin vmail
	chown vmail /srv/mail
	touch /etc/mail-by-hand/boxes /etc/mail-by-hand/users
	openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj "/CN=$2" -keyout /etc/mail-by-hand/key.pem \
		-out /etc/mail-by-hand/cert.pem 2>/dev/null
	cat > /etc/postfix/main.cf <<-END
		compatibility_level = 3.6
		myhostname = $2
		mydestination =
		mynetworks =
		virtual_mailbox_domains = hand.example
		virtual_mailbox_maps = hash:/etc/mail-by-hand/boxes
		virtual_transport = lmtp:unix:private/dovecot-lmtp
		smtpd_relay_restrictions = reject_unauth_destination
		alias_maps =
		maillog_file = /var/log/mail-by-hand.log
	END
	cp /usr/share/postfix/master.cf.dist /etc/postfix/master.cf
	grep -q postlog /etc/postfix/master.cf || echo 'postlog unix-dgram n - n - 1 postlogd' >> /etc/postfix/master.cf
	cat > /etc/dovecot/dovecot.conf <<-END
		protocols = imap lmtp
		log_path = /var/log/dovecot-by-hand.log
		ssl = required
		ssl_cert = </etc/mail-by-hand/cert.pem
		ssl_key = </etc/mail-by-hand/key.pem
		mail_location = maildir:~/Maildir
		mail_plugins = quota fts fts_xapian
		protocol lmtp {
		  mail_plugins = quota fts fts_xapian sieve
		  postmaster_address = postmaster@$2
		}
		plugin {
		  quota = count:Mailbox
		  quota_vsizes = yes
		  quota_rule = *:storage=1G
		  sieve = file:~/sieve;active=~/.dovecot.sieve
		  fts = xapian
		  fts_xapian = partial=3 full=20
		  fts_autoindex = yes
		}
		first_valid_uid = 100
		passdb {
		  driver = passwd-file
		  args = scheme=BLF-CRYPT /etc/mail-by-hand/users
		}
		userdb {
		  driver = passwd-file
		  args = /etc/mail-by-hand/users
		}
		service lmtp {
		  unix_listener /var/spool/postfix/private/dovecot-lmtp {
		    user = postfix
		  }
		}
	END
	postmap /etc/mail-by-hand/boxes
	/usr/lib/postfix/configure-instance.sh -
	postfix start >/dev/null 2>&1
	dovecot > /dev/null 2>&1 < /dev/null
	;;
add)
	hash=$(doveadm pw -s BLF-CRYPT -r 10 -p "$3")
	echo "$2:$hash:$(id -u vmail):$(id -g vmail)::/srv/mail/$2" >> /etc/mail-by-hand/users
	echo "$2 ok" >> /etc/mail-by-hand/boxes
	postmap /etc/mail-by-hand/boxes
	;;
esac
