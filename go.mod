module vergekeep

go 1.26.0

require (
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/crypto v0.58.0
	golang.org/x/text v0.43.0
	pgregory.net/rapid v1.3.0
)

require golang.org/x/sys v0.49.0 // indirect
