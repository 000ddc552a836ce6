module ombak

go 1.26.0

require (
	github.com/k3a/html2text v1.3.0
	github.com/microcosm-cc/bluemonday v1.0.27
	github.com/osteele/liquid v1.6.0
	golang.org/x/net v0.62.0
)

require (
	github.com/aymerick/douceur v0.2.0 // indirect
	github.com/gorilla/css v1.0.1 // indirect
	github.com/osteele/tuesday v1.0.3 // indirect
	gopkg.in/yaml.v2 v2.4.0 // indirect
)
