// Package filter is a model of a host's packet filters and an evaluator of
// it: given tables, it says which way a packet and the reply to it go through
// hooks, chains and rules, and which rule stops them.
//
// It is pure: tables come in as bytes or text that others have read. Logic
// is three-valued throughout. What is not understood, or depends on state
// that nobody can read, makes a result unknown with a reason, never silently
// true or false.
//
// Conditions are kept as the kernel keeps them: bytes loaded from the packet
// into registers and compared there (nftables). Rules of iptables are turned
// into the same conditions, so that there is one evaluator.
package filter
