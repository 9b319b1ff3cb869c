package bench

import (
	"fmt"
	"strings"

	"gavrix.org/gavrix/core/bus/all"
	"gavrix.org/gavrix/core/device"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/transfer"
)

// Schema of a bench file.
var Schema = doc.Map(
	doc.Key{Name: "bench", Doc: "name of the board and its surroundings", Type: doc.NameType, Required: true},
	doc.Key{Name: "about", Doc: "what it is for", Type: doc.AnyText},
	doc.Key{Name: "seed", Doc: "start of the random numbers of the simulation", Type: doc.Int(0, 1<<31-1), Default: "1"},
	doc.Key{Name: "mcu", Doc: "the microcontroller", Type: mcuSchema, Required: true},
	doc.Key{Name: "links", Doc: "the links by name", Type: doc.MapOf(linkSchema), Required: true},
	doc.Key{Name: "observed", Doc: "buses by name that are known from captures only, of any kind", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "kind", Doc: "kind of bus", Type: doc.Enum(all.Names()...), Required: true},
		doc.Key{Name: "lines", Doc: "the lines of a capture by their part on the bus, each a name or a boolean expression", Type: doc.MapOf(doc.NameType), Required: true},
		doc.Key{Name: "settings", Doc: "frame settings, as the kind of bus has them", Type: doc.MapOf(doc.AnyText)},
	))},
)

var mcuSchema = doc.Map(append([]doc.Key{
	{Name: "name", Doc: "name of the MCU", Type: doc.NameType, Required: true},
	{Name: "registers", Doc: "file with its control registers, a .csv table or a .svd, beside the bench", Type: doc.Checked("a file name below the bench's folder", checkFile)},
	{Name: "options", Doc: "non-volatile option words by name, which no run-time write changes", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "register", Doc: "register that shows the word", Type: doc.NameType, Required: true},
		doc.Key{Name: "programmed", Doc: "the word that the part has now", Type: doc.Int(0, 1<<53), Required: true},
		doc.Key{Name: "wanted", Doc: "the word that it should have; absent: as it is", Type: doc.Int(0, 1<<53)},
		doc.Key{Name: "source", Doc: "document and page, or who read it", Type: doc.AnyText},
	))},
	{Name: "clocks", Doc: "clocks by name, each a source or made from another", Type: doc.MapOf(clockSchema()), Required: true},
	{Name: "units", Doc: "bus units by name", Type: doc.MapOf(doc.ByKey("kind", "kind of bus", byKind(unitSchema)...)), Required: true},
}, transferKeys()...)...)

// byKind gives the schema of each kind.
func byKind(of func(*kind) *doc.Type) []doc.Kind {
	var out []doc.Kind
	for i := range kinds {
		out = append(out, doc.Kind{Name: kinds[i].bus.Name, Type: of(&kinds[i])})
	}
	return out
}

var linkSchema = doc.ByKey("kind", "kind of bus", byKind(linkOf)...)

// linkOf is what links of a kind say.
func linkOf(k *kind) *doc.Type {
	return doc.Map(append([]doc.Key{
		{Name: "unit", Doc: "the MCU's bus unit", Type: doc.NameType, Required: true},
		{Name: "mcu", Doc: "the MCU's end", Type: doc.Map(append(k.mcu(), startedKeys()...)...), Required: true},
		{Name: "transfers", Doc: "how its words get into memory and out of it, by name; what is not said is derived", Type: doc.MapOf(transfer.Schema())},
		{Name: "lines", Doc: "names of its lines in captures, by their role on the bus; absent: LINK.ROLE", Type: doc.MapOf(doc.NameType)},
	}, k.link()...)...)
}

// fileKeys name a device file.
func fileKeys(more ...doc.Key) []doc.Key {
	return append([]doc.Key{
		{Name: "file", Doc: "its device file, beside the bench", Type: doc.Checked("a file name below the bench's folder", checkFile), Required: true},
		{Name: "source", Doc: "document and page", Type: doc.AnyText},
		{Name: "power-cut", Doc: "what its memory keeps of a writing that the end of the supply interrupts, where this very part does otherwise than its file says", Type: device.CutType},
		{Name: "jobs", Doc: "how long jobs of this very part take, where that is not as its file says: a time, or never", Type: doc.MapOf(doc.Checked("a time, as 20 ms, or never", func(s string) error {
			_, err := parseReally(s)
			return err
		}))},
		{Name: "write", Doc: "how long writing its memory takes in this very part, where that is not as its file says", Type: doc.TimeType},
		{Name: "chain", Doc: "how many parts are in its chain on this very bench, where they are more or fewer than its file says", Type: doc.Int(1, 64)},
		{Name: "answers", Doc: "what is wrong with the answers of this very part: there are none, a bit of their check is turned, the one before comes once more in front, or the toggle bit or sequence number stays as it was first", Type: device.AnswersType},
		{Name: "bad-bytes", Doc: "bytes of its memory that take nothing in this very part, as 0x40 0x50..0x5F", Type: doc.Checked("numbers of bytes, as 0x40 0x50..0x5F", func(s string) error {
			_, err := parseBytes(s)
			return err
		})},
	}, more...)
}

// devicesKey are the devices of a bus that several share.
func devicesKey(more ...doc.Key) doc.Key {
	return doc.Key{Name: "devices", Doc: "the devices on the bus by name", Type: doc.MapOf(doc.Map(fileKeys(more...)...)), Required: true}
}

var (
	fieldType     = doc.Checked("REGISTER.FIELD", checkField)
	wordFieldType = doc.Checked("REGISTER.FIELD, or REGISTER.FIELD = MEANING", func(s string) error {
		where, word, given := strings.Cut(s, "=")
		if given && strings.TrimSpace(word) == "" {
			return fmt.Errorf("%q: no meaning comes after the =", s)
		}
		return checkField(strings.TrimSpace(where))
	})
)

func checkField(s string) error {
	if i := strings.LastIndexByte(s, '.'); i < 1 || i == len(s)-1 {
		return fmt.Errorf("%q names no field: write REGISTER.FIELD", s)
	}
	return nil
}

func checkFile(s string) error {
	if strings.TrimSpace(s) == "" {
		return fmt.Errorf("the name is empty")
	}
	if strings.HasPrefix(s, "/") || strings.Contains(s, "..") || strings.Contains(s, `\`) {
		return fmt.Errorf("%q leaves the bench's folder", s)
	}
	return nil
}
