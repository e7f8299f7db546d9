module ironbark

go 1.26

require (
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v4 v4.0.0
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb
	pgregory.net/rapid v1.3.0
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
