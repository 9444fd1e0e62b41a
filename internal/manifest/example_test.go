package manifest_test

import (
	"fmt"

	"victualler/internal/manifest"
)

// An agent takes nothing that is not whole: it says everything that is wrong at once.
func ExampleManifest_Validate() {
	m := manifest.Manifest{AccountID: 7, SignInName: "../root", Wanted: manifest.Absent}
	fmt.Println(m.Validate())
	// Output:
	// revision must be above 0
	// sign_in_name: a sign-in name has lower-case letters a to z and digits only
}
