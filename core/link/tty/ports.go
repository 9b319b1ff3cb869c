package tty

// Found is a port of the operating system.
type Found struct {
	Path   string `json:"path"`
	What   string `json:"what,omitempty"`   // product, as far as it is told
	Serial string `json:"serial,omitempty"` // serial number of an adapter
}
