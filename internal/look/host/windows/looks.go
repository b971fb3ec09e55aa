//go:build windows

// Package windows is what is asked of a host that runs Windows, by its
// documented calls and its registry. It reads no printed text of other
// programs. What it has no look for, its caller says.
package windows

import (
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/common"
)

func init() { common.Events = newestEvents }

// Looks is every look of this system, by its kind.
var Looks = map[fact.Kind]look.Func{
	fact.LookIdentity:   common.Identity(identify),
	fact.LookListeners:  Listeners,
	fact.LookService:    Service,
	fact.LookTables:     Tables,
	fact.LookRoutes:     Routes,
	fact.LookRoute:      Route,
	fact.LookLink:       Link,
	fact.LookNeighbours: Neighbours,
	fact.LookResources:  Resources,
	fact.LookPeers:      Peers,
	fact.LookBarriers:   Barriers,
	fact.LookAccount:    Account,
	fact.LookAccess:     onHost.Access,
	fact.LookUpstreams:  onHost.Upstreams,
	fact.LookCertFiles:  onHost.CertFiles,
}
