//go:build linux

// Package linux is what is asked of a host that runs Linux, by its system calls
// and its own files.
package linux

import (
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/common"
)

// Looks is every look of this system, by its kind.
var Looks = map[fact.Kind]look.Func{
	fact.LookAddresses:  common.Addresses(addresses),
	fact.LookIdentity:   common.Identity(identify),
	fact.LookListeners:  Listeners,
	fact.LookService:    Service,
	fact.LookRoutes:     Routes,
	fact.LookNeighbours: Neighbours,
	fact.LookKernel:     Kernel,
	fact.LookPeers:      Peers,
	fact.LookBarriers:   Barriers,
	fact.LookResources:  Resources,
	fact.LookTables:     Tables,
	fact.LookAccess:     onHost.Access,
	fact.LookUpstreams:  onHost.Upstreams,
	fact.LookContainers: Containers,
	fact.LookCertFiles:  onHost.CertFiles,
	fact.LookAccount:    Account,
	fact.LookAccounts:   Accounts,
	fact.LookPathRight:  PathRights,
	fact.LookKeyTable:   KeyTable,
}
