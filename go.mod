module rillmark

go 1.26.8

require (
	github.com/chromedp/cdproto v0.159.0 // indirect
	github.com/chromedp/chromedp v0.23.0 // indirect
	github.com/danielgtaylor/huma/v2 v2.37.2 // indirect
	github.com/go-chi/chi/v5 v5.5.0 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/goccy/go-yaml v1.19.2 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	github.com/jackc/pgx/v5 v5.12.0 // indirect
	github.com/klauspost/compress v1.20.3 // indirect
	github.com/prometheus/client_golang v1.25.0 // indirect
	github.com/spf13/cobra v1.10.2 // indirect
	github.com/spf13/pflag v1.0.10 // indirect
	github.com/stretchr/objx v0.5.3 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/text v0.42.0 // indirect
)
