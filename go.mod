module uakari

go 1.26.0

require (
	github.com/coreos/go-systemd/v22 v22.7.0
	github.com/goccy/go-yaml v1.19.2
	github.com/miekg/dns v1.1.73
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/vishvananda/netlink v1.3.1
	golang.org/x/crypto v0.58.0
	golang.org/x/net v0.62.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	github.com/godbus/dbus/v5 v5.1.0 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/vishvananda/netns v0.0.5 // indirect
	golang.org/x/text v0.43.0 // indirect
)
