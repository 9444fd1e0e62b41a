package agent_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/sites"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// otherPHP installs PHP once more under another version: the same program with directories of its
// own, as Debian's packages of several versions have them.
const otherPHP = `cp -r /etc/php/8.2 /etc/php/7.9
echo 'user_agent = "seven"' > /etc/php/7.9/fpm/conf.d/99-seven.ini
cp /usr/sbin/php-fpm8.2 /usr/sbin/php-fpm7.9
pkill -KILL -x victualler-agen`

func TestVersionsOfPHP(t *testing.T) {
	ctx := context.Background()
	s, c := joined(t, "vers", lab.ServerOptions{HomeSize: 256 << 20})
	_, err := s.Exec(ctx, "sh", "-ec", otherPHP)
	require.NoError(t, err)
	labtest.Eventually(t, func() bool {
		status, err := c.Status(ctx)
		if err != nil {
			return false
		}
		return status.Sandboxes != nil && slices.Equal(status.Sandboxes.PHP, []string{"8.2", "7.9"})
	}, "both versions are there")

	m := account(t, 1, "ferries", "ferries.example")
	m.Sites[0].Switches = sites.Defaults()
	old, _, err := names.ParseDomain("old.ferries.example")
	require.NoError(t, err)
	switches := sites.Defaults()
	switches.PHPVersion, switches.PHPMemory = "7.9", 64<<20
	m.Sites = append(m.Sites, manifest.Site{Domain: old, Root: "sites/old", Starter: true, Switches: switches})
	r := applied(t, c, m)
	assert.Contains(t, strings.Join(r.Verified, "; "),
		"the sandbox of ferries waits for requests to PHP 8.2 and 7.9")
	_, err = s.Exec(ctx, "sh", "-ec",
		`for d in ferries.example old; do echo '<?php echo ini_get("user_agent"), ",", ini_get("memory_limit"), ",", posix_getuid();' > /home/ferries/sites/$d/v.php; done`)
	require.NoError(t, err)
	ask := func(host string) string {
		out, err := s.Exec(ctx, "curl", "-s", "-H", "Host: "+host, "http://"+s.Address.String()+"/v.php")
		require.NoError(t, err)
		return out
	}
	assert.Equal(t, ",134217728,1000001", ask("ferries.example"))
	assert.Equal(t, "seven,67108864,1000001", ask("old.ferries.example"),
		"each version has the settings of its own sites")

	// Extensions are those of the site's version, as they are now; asking has PHP start.
	lacks := func(domain string, extensions ...string) string {
		out, err := c.KitPHP(ctx, agentlink.KitPHP{KitSite: agentlink.KitSite{AccountID: 1, SignInName: "ferries",
			Domain: domain, Kit: 1}, Extensions: extensions})
		require.NoError(t, err)
		return language.Decode(out.Failure).String()
	}
	_, err = s.Exec(ctx, "sh", "-ec", `ln -s /usr/bin/php8.2 /usr/bin/php7.9; pkill -KILL -u 1000001; true`)
	require.NoError(t, err)
	assert.Empty(t, lacks("ferries.example", "json", "PDO_MySQL"))
	labtest.Eventually(t, func() bool {
		out, err := s.Exec(ctx, "sh", "-c", "pgrep -u 1000001 -c php-fpm8.2; true")
		return err == nil && strings.TrimSpace(out) != "0"
	}, "PHP is started before anybody asks for a page")
	assert.Equal(t, "PHP has no extension cobol here", lacks("ferries.example", "json", "cobol"))
	assert.Empty(t, lacks("old.ferries.example", "pdo_mysql"))
	_, err = s.Exec(ctx, "sh", "-ec", "rm /etc/php/8.2/fpm/conf.d/*mysql*")
	require.NoError(t, err)
	assert.Equal(t, "PHP has no extension pdo_mysql here", lacks("ferries.example", "pdo_mysql"),
		"it must be there for pages, too")

	m.Revision++
	m.Sites[1].Switches.PHPVersion = ""
	applied(t, c, m)
	assert.Equal(t, ",67108864,1000001", ask("old.ferries.example"))
	sweep, err := c.Sweep(ctx)
	require.NoError(t, err)
	assert.Empty(t, sweep.Strays)
	assert.Empty(t, sweep.Accounts[0].Drift)
	out, err := s.Exec(ctx, "sh", "-c", "ls /etc/victualler/php | grep 7.9; ls /run/victualler/php | grep 7.9; true")
	require.NoError(t, err)
	assert.Empty(t, out, "no pool is left where no site wants one")

	m.Revision++
	m.Sites[1].Switches.PHPVersion = "7.9"
	applied(t, c, m)
	m.Revision++
	m.Wanted, m.Sites = manifest.Absent, nil
	applied(t, c, m)
	out, err = s.Exec(ctx, "sh", "-c",
		"grep -rl ferries /etc/php /etc/victualler; ls /etc/victualler/php /run/victualler/php; true")
	require.NoError(t, err)
	assert.Equal(t, "/etc/victualler/php:\n\n/run/victualler/php:\n", out)
}
