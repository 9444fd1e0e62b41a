module victualler

go 1.26.0

require (
	github.com/pmezard/go-difflib v1.0.0
	github.com/stretchr/testify v1.12.1
	golang.org/x/net v0.62.0
	golang.org/x/sys v0.49.0
	golang.org/x/text v0.43.0
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
