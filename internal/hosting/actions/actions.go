// Package actions has the words for what can be done: each action, as it is recorded and as an
// operation is of it, has a code for programs (plan.change) and a title for people (Change plan).
package actions

import (
	"strings"

	"victualler/internal/hosting/language"
)

// titles has a title for every action that is recorded or is an operation of its own.
var titles = map[string]string{
	"account.close":               "Close account",
	"account.freeze":              "Freeze or unfreeze limits",
	"account.give":                "Give account to another customer",
	"account.open":                "Open account",
	"account.plan":                "Change plan of account",
	"account.repair":              "Repair account",
	"account.resume":              "Resume account",
	"account.suspend":             "Suspend account",
	"mail.suspend":                "Suspend mail",
	"mailbox.add_password":        "Make password for a program",
	"mailbox.remove_password":     "Remove password for a program",
	"mail.resume":                 "Resume mail",
	"address.add":                 "Add mail address",
	"address.change":              "Change mail address",
	"address.remove":              "Remove mail address",
	"kit.change":                  "Change kit",
	"kit.install":                 "Install kit",
	"kit.register":                "Register kit",
	"kit.remove":                  "Remove kit",
	"kit.update":                  "Update kit",
	"kit.withdraw":                "Remove version of kit",
	"list.add":                    "Add list",
	"list.change":                 "Change list",
	"list.members":                "Change members of list",
	"list.leave":                  "Leave list",
	"list.approve":                "Send held message on",
	"list.drop":                   "Drop held message",
	"list.remove":                 "Remove list",
	"authority.add":               "Add authority",
	"authority.change":            "Change authority",
	"authority.register":          "Register with authority",
	"authority.remove":            "Remove authority",
	"brand.change":                "Change brand",
	"brand.logo":                  "Change logo",
	"certificate.cancel":          "Cancel certificate order",
	"certificate.challenge":       "Show proof for certificate",
	"certificate.change":          "Change how a certificate is obtained",
	"certificate.ends":            "Warn that a certificate ends",
	"certificate.install":         "Install certificate",
	"certificate.key_given":       "Give out private key",
	"certificate.order":           "Order certificate",
	"certificate.renew":           "Renew certificate",
	"certificate.request":         "Make signing request",
	"certificate.request_removed": "Remove signing request",
	"certificate.revoke":          "Revoke certificate",
	"certificate.take_back":       "Cancel certificate order", // until version 0.13
	"customer.add":                "Add customer",
	"customer.change":             "Change customer",
	"customer.notes":              "Change staff notes",
	"customer.remove":             "Remove customer",
	"domain.add":                  "Add domain",
	"domain.change":               "Change domain",
	"domain.prove":                "Prove domain",
	"database.add":                "Add database",
	"database.change":             "Change database",
	"database.remove":             "Remove database",
	"database.statement":          "Execute statement",
	"database.stop_statement":     "Stop statement",
	"database.export":             "Export database",
	"database.import":             "Import into database",
	"database.stop_import":        "Stop import",
	"database_user.add":           "Add database user",
	"database_user.change":        "Change database user",
	"database_user.remove":        "Remove database user",
	"domain.remove":               "Remove domain",
	"exception.end":               "End exception",
	"exception.remove":            "Remove exception",
	"exception.set":               "Set exception",
	"folder.add":                  "Protect folder",
	"folder.change":               "Change protected folder",
	"folder.remove":               "Stop protecting folder",
	"handover.mail":               "Mail handover sheet",
	"login.add":                   "Add login",
	"login.change":                "Change login",
	"login.remove":                "Remove login",
	"mail.keys":                   "Replace signing keys",
	"mailbox.add":                 "Add mailbox",
	"mailbox.add_many":            "Add mailboxes",
	"mailbox.change":              "Change mailbox",
	"mailbox.remove":              "Remove mailbox",
	"mailbox.sign_ins_fail":       "Sign-ins to mailbox fail",
	"name_servers.change":         "Change name servers",
	"person.add":                  "Add person",
	"person.change":               "Change person",
	"person.link":                 "Make sign-in link",
	"person.link_used":            "Use sign-in link",
	"person.password":             "Change password",
	"person.recovery_codes":       "Make recovery codes",
	"person.remove":               "Remove person",
	"person.second_factor":        "Change second factor",
	"plan.add":                    "Add plan",
	"plan.change":                 "Change plan",
	"plan.remove":                 "Remove plan",
	"queue.hold":                  "Hold messages",
	"queue.release":               "Release messages",
	"queue.remove":                "Remove messages",
	"queue.retry":                 "Try messages again",
	"record.add":                  "Add record",
	"record.change":               "Change record",
	"record.remove":               "Remove record",
	"reseller.add":                "Add reseller",
	"reseller.change":             "Change reseller",
	"reseller.remove":             "Remove reseller",
	"reseller.resume":             "Resume reseller",
	"reseller.suspend":            "Suspend reseller",
	"sending.release":             "Release sending",
	"sending.stop":                "Stop sending",
	"server.change":               "Change server",
	"server.join":                 "Add server",
	"server.remove":               "Remove server",
	"server.repair":               "Repair server",
	"server.sweep":                "Sweep server",
	"session.act_as":              "Act for somebody",
	"session.end":                 "Sign out",
	"session.end_all":             "Sign out everywhere",
	"session.start":               "Sign in",
	"session.stop_acting":         "Stop acting for somebody",
	"settings.change":             "Change settings",
	"settings.test_mail":          "Send test message",
	"template.add":                "Add template",
	"template.change":             "Change template",
	"template.remove":             "Remove template",
	"token.add":                   "Add token",
	"token.remove":                "Revoke token",
	"zone.change":                 "Change zone",
	"zone.import":                 "Import zone",
	"zone.reset":                  "Reset zone",
}

// Title returns what people call an action. One of an earlier version of this program that has no
// title any more is written as its code says: “thing.do_it” is “Do it thing”.
func Title(code string) string {
	if title, known := titles[code]; known {
		return title
	}
	of, what, _ := strings.Cut(strings.ReplaceAll(code, "_", " "), ".")
	text := strings.TrimSpace(what + " " + of)
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// steps has a title for every step whose name is no name that people use as it is, such as that of
// a program, a server or an account.
var steps = map[string]string{
	"account":         "account",
	"ask":             "first answer",
	"certificates":    "certificates",
	"check":           "check",
	"databases":       "databases",
	"enrol":           "enrolment",
	"files":           "files",
	"files of nobody": "files of nobody",
	"home":            "home",
	"install":         "installation",
	"issue":           "issue",
	"logins":          "logins",
	"mail":            "mail",
	"mailboxes":       "mailboxes",
	"order":           "order",
	"place":           "put in place",
	"prepare":         "preparation",
	"prove":           "proof",
	"sandbox":         "sandbox",
	"steps":           "steps of the kit",
	"sweep":           "sweep",
	"sweep again":     "sweep again",
	"user":            "system user",
	"verify":          "verification",
	"zones":           "zones",
}

// StepTitle returns what people call a step of an operation. One on a server of several is named
// “server: step”.
func StepTitle(name string) language.Text {
	if server, step, several := strings.Cut(name, ": "); several {
		return language.New("%s: %s", server, StepTitle(step))
	}
	if title, known := steps[name]; known {
		return language.Plain(title)
	}
	return language.Plain(name)
}

// Known reports whether an action has a title of its own.
func Known(code string) bool {
	_, known := titles[code]
	return known
}
