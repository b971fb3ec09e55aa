package fact

// Mapper is what is registered at a port mapper.
type Mapper struct {
	Entries []MapperEntry `json:"entries"`
}

// MapperEntry is one service with its port.
type MapperEntry struct {
	Program   uint32 `json:"program,omitempty"`   // its number, of ONC RPC (RFC 5531 section 8.4)
	Interface string `json:"interface,omitempty"` // its UUID, of DCE RPC
	Name      string `json:"name,omitempty"`
	Version   uint32 `json:"version"`
	Transport string `json:"transport"` // "tcp" or "udp"
	Port      uint16 `json:"port"`
}
