package render

import (
	"fmt"

	"victualler/internal/hosting/logins"
)

// Groups of users who may transfer files. What somebody sees follows from the group, so that sshd
// needs no configuration of its own for each.
const (
	// HomeGroup is of accounts' own sign-ins: they see their home, and have no shell.
	HomeGroup = "victualler-home"
	// ShellGroup is of accounts' own sign-ins with a shell.
	ShellGroup = "victualler-shell"
	// LoginGroup is of further logins: they see their folder.
	LoginGroup = "victualler-login"
)

// Where sshd finds what belongs to a login, by its name.
const (
	KeyDir   = "/etc/ssh/victualler"
	LoginDir = "/srv/victualler"
	// LoginFolder is the folder of a login as it sees it; the directory above belongs to root, as
	// sshd demands (ChrootDirectory in sshd_config(5)).
	LoginFolder = "files"
)

// SSHDBase renders what sshd does for users of these groups. Others are none of our business.
func SSHDBase() []File {
	common := fmt.Sprintf("    AuthorizedKeysFile %s/%%u\n    PasswordAuthentication yes\n    DisableForwarding "+
		"yes\n    PermitUserRC no\n", KeyDir)
	files := common + "    PermitTTY no\n"
	return []File{{Path: "/etc/ssh/sshd_config.d/victualler.conf", Mode: 0o644, Content: "# Written by victualler-agent when it starts.\n" + fmt.Sprintf(`Match Group %s
    ChrootDirectory /home/%%u
    ForceCommand internal-sftp -u 0022
%sMatch Group %s
    ChrootDirectory %s/%%u
    ForceCommand internal-sftp -u 0022 -d /%s
%sMatch Group %s
%sMatch all
`, HomeGroup, files, LoginGroup, LoginDir, LoginFolder, files, ShellGroup, common)}}
}

// AuthorizedKeys renders the public keys of a login. Without any, it is empty.
func AuthorizedKeys(l logins.Login) File {
	f := File{Path: KeyDir + "/" + l.Name, Mode: 0o644}
	if len(l.Keys) == 0 {
		return f
	}
	f.Content = "# Written by victualler-agent from the account's manifest.\n"
	for _, key := range l.Keys {
		f.Content += key + "\n"
	}
	return f
}
