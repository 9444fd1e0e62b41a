package manifest

import (
	"errors"
	"fmt"
	"slices"

	"victualler/internal/hosting/databases"
)

// Databases are an account's on one server.
type Databases struct {
	Databases []databases.Database `json:"databases"`
	Users     []DatabaseUser       `json:"users"`
	// SizeLimit is the most that all of them may hold together, in bytes; nil is unlimited.
	SizeLimit *int64 `json:"size_limit,omitempty"`
	// Suspended has nobody connect; everything stays.
	Suspended bool `json:"suspended,omitempty"`
}

// DatabaseUser is a user with what the engine checks the password with.
type DatabaseUser struct {
	databases.User
	// Verifier is in the form that the engine keeps ([databases.Verifier]); empty has nobody sign
	// in.
	Verifier Secret `json:"verifier,omitempty"`
}

// DatabaseServer says that a server keeps databases.
type DatabaseServer struct{}

// HasDatabases reports whether an engine is to hold anything of the account on this server.
func (m Manifest) HasDatabases(e databases.Engine) bool {
	if m.Wanted != Present || m.Databases == nil {
		return false
	}
	return slices.ContainsFunc(m.Databases.Databases, func(d databases.Database) bool { return d.Engine == e }) ||
		slices.ContainsFunc(m.Databases.Users, func(u DatabaseUser) bool { return u.Engine == e })
}

// In is what an engine is to hold, while databases may grow as far as g says.
func (d *Databases) In(e databases.Engine, g databases.Growth) databases.Account {
	out := databases.Account{Growth: g}
	if d == nil {
		return out
	}
	out.Suspended = d.Suspended
	for _, one := range d.Databases {
		if one.Engine == e {
			out.Databases = append(out.Databases, one)
		}
	}
	for _, u := range d.Users {
		if u.Engine == e {
			out.Users = append(out.Users, databases.UserWithVerifier{User: u.User, Verifier: string(u.Verifier)})
		}
	}
	return out
}

// check refuses what must not reach an engine.
func (d *Databases) check(signIn string) error {
	if d == nil {
		return nil
	}
	var errs []error
	if d.SizeLimit != nil && *d.SizeLimit < 0 {
		errs = append(errs, errors.New("databases.size_limit cannot be negative"))
	}
	seen := map[string]bool{}
	once := func(kind string, e databases.Engine, name string) {
		key := kind + " " + string(e) + " " + name
		if seen[key] {
			errs = append(errs, fmt.Errorf("the %s is listed twice", key))
		}
		seen[key] = true
	}
	for _, one := range d.Databases {
		errs = append(errs, one.Check(signIn))
		once("database", one.Engine, one.Name)
	}
	for _, u := range d.Users {
		errs = append(errs, u.Check(signIn))
		once("database user", u.Engine, u.Name)
		if u.Verifier != "" && !databases.IsVerifier(u.Engine, string(u.Verifier)) {
			errs = append(errs, fmt.Errorf("database user %s: the password's verifier cannot be read", u.Name))
		}
		for name := range u.Levels {
			if !seen["database "+string(u.Engine)+" "+name] {
				errs = append(errs, fmt.Errorf("database user %s: there is no database %s", u.Name, name))
			}
		}
	}
	return errors.Join(errs...)
}
