package api

import "time"

// Login is a sign-in for file transfer (SFTP): the account's own, or a further one.
type Login struct {
	Name     string     `json:"name"`
	Main     bool       `json:"main" doc:"Whether it is the account's own sign-in."`
	Folder   string     `json:"folder" doc:"What it sees, below the home; empty is the whole home."`
	Password bool       `json:"password" doc:"Whether it has a password."`
	Keys     []LoginKey `json:"keys"`
	Shell    bool       `json:"shell" doc:"Whether it has a shell besides file transfer."`
	Version  int64      `json:"version" doc:"Counts changes; the ETag."`
}

// LoginKey is a public key that lets somebody in.
type LoginKey struct {
	Fingerprint string    `json:"fingerprint" doc:"SHA256 and base 64, as ssh-keygen prints it."`
	Type        string    `json:"type" doc:"Such as ssh-ed25519."`
	Comment     string    `json:"comment,omitempty" doc:"What stood behind the key: whose it is."`
	AddedAt     time.Time `json:"added_at"`
}

// LoginList is all logins of an account, its own sign-in first.
type LoginList struct {
	Logins    []Login  `json:"logins"`
	Addresses []string `json:"addresses" doc:"Where to connect to; port 22."`
}

// NewLogin describes a login to be added.
type NewLogin struct {
	Name     string   `json:"name" minLength:"1" maxLength:"32" doc:"What follows the account's sign-in name and a hyphen: 1 to 15 lower-case letters and digits."`
	Folder   string   `json:"folder,omitempty" maxLength:"512" doc:"What it sees, below the home, such as sites/ferries.example; made if it is not there. Empty is the whole home."`
	Password string   `json:"password,omitempty" maxLength:"72"`
	Keys     []string `json:"keys,omitempty" maxItems:"50" doc:"Public keys, each the line of a file that ends in .pub."`
}

// LoginChange changes a login; what is absent stays.
type LoginChange struct {
	Folder     *string  `json:"folder,omitempty" maxLength:"512"`
	Password   *string  `json:"password,omitempty" maxLength:"72" doc:"Empty takes the password away."`
	AddKeys    []string `json:"add_keys,omitempty" maxItems:"50"`
	RemoveKeys []string `json:"remove_keys,omitempty" maxItems:"50" doc:"Fingerprints."`
}

// LoginChanged is a login that was added or changed.
type LoginChanged struct {
	Login     Login `json:"login"`
	Operation int64 `json:"operation"`
	Version   int64 `json:"version"`
}
