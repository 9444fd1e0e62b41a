package render_test

import (
	"fmt"

	"victualler/internal/hosting/names"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// One account's sites become files of their own, which nobody else's change touches.
func ExampleNGINX() {
	domain, _, err := names.ParseDomain("ferries.example")
	if err != nil {
		panic(err)
	}
	m := manifest.Manifest{AccountID: 7, SignInName: "ferries", Revision: 1, Wanted: manifest.Present,
		Sites: []manifest.Site{{Domain: domain, Root: "sites/ferries.example"}}}
	for _, f := range render.NGINX(m) {
		fmt.Println(f.Path, f.Mode, render.NGINXOwner(f.Path))
	}
	// Output:
	// /etc/nginx/victualler/accounts/ferries.conf -rw------- ferries
}
