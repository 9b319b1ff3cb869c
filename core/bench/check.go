package bench

import (
	"fmt"

	"gavrix.org/gavrix/core/bus"
	"gavrix.org/gavrix/core/check"
	"gavrix.org/gavrix/core/doc"
	"gavrix.org/gavrix/core/quantity"
)

// characterChecks are the expectations of a character link.
func characterChecks() doc.Key {
	return doc.Key{Name: "checks", Doc: "expectations by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "send", Doc: "text to send", Type: doc.NameType},
		doc.Key{Name: "send-hex", Doc: "bytes to send, as 53 4E 0A", Type: hexType(false)},
		doc.Key{Name: "expect", Doc: "text expected", Type: doc.Checked("a text", func(s string) error {
			if s == "" {
				return fmt.Errorf("the text is empty")
			}
			return nil
		})},
		doc.Key{Name: "any", Doc: "the character that stands for any byte in expect", Type: doc.Checked("one ASCII character", func(s string) error {
			if len(s) != 1 {
				return fmt.Errorf("%q is not one character", s)
			}
			return nil
		})},
		doc.Key{Name: "expect-hex", Doc: "bytes expected, .. for any", Type: hexType(true)},
		doc.Key{Name: "within", Doc: "time from the end of sending to the last expected byte", Type: doc.TimeType, Required: true},
	))}
}

// transactionChecks are those of a bus whose transactions are planned in words.
func transactionChecks(k *bus.Kind) doc.Key {
	return doc.Key{Name: "checks", Doc: "expectations by name", Type: doc.MapOf(doc.Map(
		doc.Key{Name: "do", Doc: "the transaction to do first, as " + k.PlanHelp, Type: doc.NameType},
		doc.Key{Name: "expect", Doc: "the transaction that must be seen, in the same words; .. stands for any byte", Type: doc.NameType, Required: true},
		doc.Key{Name: "within", Doc: "time until it is seen", Type: doc.TimeType, Required: true},
	))}
}

func (x *binder) transactionCheck(l *Link, n *doc.Node) {
	c := check.Check{Name: n.Key, Do: n.Text("do"), Plan: n.Text("expect"), Within: doc.Of[quantity.Time](n, "within")}
	for _, key := range []string{"do", "expect"} {
		w := n.Get(key)
		if w == nil {
			continue
		}
		if _, err := l.Kind.Plan(l.Model.Tap(), w.Scalar, l.Model.Bit(), false); err != nil {
			x.fault("bad-transaction", w.Place(), "write it as "+l.Kind.PlanHelp, "check %s: %v", n.Key, err)
			return
		}
		if sends := l.Kind.Sends; sends != nil && key == "do" {
			if err := sends(w.Scalar); err != nil {
				x.fault("bad-transaction", w.Place(), "write what is to be sent", "check %s: %v", n.Key, err)
				return
			}
		}
	}
	l.Checks = append(l.Checks, c)
}

func hexType(any bool) *doc.Type {
	return doc.Scalar("bytes in hex", func(s string) ([]check.Cell, error) { return check.ParseHex(s, any) })
}

func (x *binder) characterCheck(l *Link, n *doc.Node) {
	c := check.Check{Name: n.Key, Within: doc.Of[quantity.Time](n, "within")}
	two := func(a, b string) bool {
		if n.Get(a) != nil && n.Get(b) != nil {
			x.fault("check-twice", n.Get(b).KeyPlace(), fmt.Sprintf("keep %s or %s", a, b), "check %s has both %s and %s", n.Key, a, b)
			return true
		}
		return false
	}
	if two("send", "send-hex") || two("expect", "expect-hex") {
		return
	}
	if h := n.Get("send-hex"); h != nil {
		c.Send = check.Bytes(doc.As[[]check.Cell](h))
	} else {
		c.Send = n.Get("send").Bytes()
	}
	if h := n.Get("expect-hex"); h != nil {
		c.Expect = doc.As[[]check.Cell](h)
	} else {
		c.Expect = check.FromText(string(n.Get("expect").Bytes()), n.Text("any"))
	}
	if len(c.Expect) == 0 {
		x.fault("check-empty", n.KeyPlace(), "add `expect:` or `expect-hex:`", "check %s expects nothing", n.Key)
		return
	}
	l.Checks = append(l.Checks, c)
}
