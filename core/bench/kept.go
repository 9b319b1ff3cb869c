package bench

import (
	"bytes"
	"io/fs"
	"path"
	"slices"

	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/register"
)

// keptFiles are the files that a bench refers to as they were read last, so that an
// edit of the bench reads again only what was changed. What they hold is not changed
// after it was read.
type keptFiles struct {
	devices   map[string]keptFile[*device.Device]
	registers map[string]keptFile[*register.Map]
	// parts are devices under the names and at the addresses that the bench gives them.
	parts map[part]*device.Device
}

// part is a device as a bench has it: under its name there, and with what the bench says
// of it in place of its file.
type part struct {
	of         *device.Device
	name, with string
}

type keptFile[T any] struct {
	text []byte
	what T
}

func newKeptFiles() *keptFiles {
	return &keptFiles{map[string]keptFile[*device.Device]{}, map[string]keptFile[*register.Map]{}, map[part]*device.Device{}}
}

// part gives a device as the bench has it: the same one for the same words, so that what
// is known of it stays through edits. change, which may be nil, does what with says.
func (k *keptFiles) part(p part, change func(*device.Device)) *device.Device {
	d, has := k.parts[p]
	if !has {
		if d = p.of.Named(p.name); change != nil {
			n := *d
			change(&n)
			d = &n
		}
		k.parts[p] = d
	}
	return d
}

// device loads a device file.
func (k *keptFiles) device(dir fs.FS, name string) (*device.Device, []finding.Finding) {
	text, err := doc.ReadFile(dir, name)
	if err != nil {
		return device.Load(dir, name) // which says so
	}
	all := text
	if table := device.TableOf(name, text); table != "" {
		more, _ := doc.ReadFile(dir, table)
		all = slices.Concat(text, []byte{0}, more)
	}
	if old, has := k.devices[name]; has && bytes.Equal(old.text, all) {
		return old.what, nil
	}
	d, faults := device.Read(dir, name, text)
	if d != nil {
		k.devices[name] = keptFile[*device.Device]{all, d}
	}
	return d, faults
}

// registerMap reads a file of control registers. The first error is that of opening it.
func (k *keptFiles) registerMap(dir fs.FS, name string) (m *register.Map, unreadable, bad error) {
	text, err := doc.ReadFile(dir, name)
	if err != nil {
		return nil, err, nil
	}
	if old, has := k.registers[name]; has && bytes.Equal(old.text, text) {
		return old.what, nil, nil
	}
	m, err = register.Read(path.Ext(name), bytes.NewReader(text))
	if err != nil {
		return nil, nil, err
	}
	k.registers[name] = keptFile[*register.Map]{text, m}
	return m, nil, nil
}
