package definition_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/sandbox/definition"
)

func TestCheck(t *testing.T) {
	zero := int64(0)
	good := func() definition.Sandbox {
		return definition.Sandbox{Account: "bakery", UID: definition.FirstUID + 17, PHP: []definition.PHP{
			{Name: "bakery", Version: "8.2", Socket: definition.SocketPath(definition.FirstUID+17, "")},
			{Name: "bakery-7.4", Version: "7.4", Socket: "/run/victualler/php/1000017-7.4.sock"}}}
	}
	assert.NoError(t, good().Check())
	for what, bend := range map[string]func(*definition.Sandbox){
		"a path for a name":  func(s *definition.Sandbox) { s.Account = "../root" },
		"no name":            func(s *definition.Sandbox) { s.Account = "" },
		"a user of Debian's": func(s *definition.Sandbox) { s.UID = 33 },
		"root":               func(s *definition.Sandbox) { s.UID = 0 },
		"nothing allowed":    func(s *definition.Sandbox) { s.Memory = &zero },
		"another's PHP":      func(s *definition.Sandbox) { s.PHP[0].Name = "ferries" },
		"a path for PHP":     func(s *definition.Sandbox) { s.PHP[0].Name = "bakery/../ferries" },
		"another's socket": func(s *definition.Sandbox) {
			s.PHP[0].Socket = definition.SocketPath(definition.FirstUID+18, "")
		},
		"a socket elsewhere":  func(s *definition.Sandbox) { s.PHP[1].Socket = "/run/nginx.sock" },
		"a path as a version": func(s *definition.Sandbox) { s.PHP[0].Version = "8.2/../x" },
	} {
		bent := good()
		bend(&bent)
		assert.Error(t, bent.Check(), what)
	}
	assert.Equal(t, "/etc/victualler/sandboxes/bakery.json", definition.Path("bakery"))
}
