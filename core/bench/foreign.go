package bench

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"gavrix.org/gavrix/core/finding"
)

// sharedRoles may be one field for several units.
var sharedRoles = []string{"port-clock", "dma-clock"}

// lintForeign finds fields that two units claim: one of them names another unit's
// register, as a copied description does. It is the one that has fewer fields in
// that register.
func (l *Link) lintForeign() []finding.Finding {
	var out []finding.Finding
	for _, setting := range slices.Sorted(maps.Keys(l.Unit.Control)) {
		if slices.Contains(sharedRoles, setting) {
			continue
		}
		where, _ := fieldAndWord(l.Unit.Control[setting])
		for _, other := range l.units {
			if other == l.Unit || !other.claims(where) {
				continue
			}
			register := where[:strings.LastIndexByte(where, '.')]
			if l.Unit.fieldsIn(register) >= other.fieldsIn(register) {
				continue
			}
			f := finding.Finding{
				Severity: finding.Error, Code: "field-of-another-unit", Where: l.unitNode.Get("control", setting).Place(),
				Seen:   fmt.Sprintf("%s says that its %s is %s; that field is unit %s's", l.Unit.Name, setting, where, other.Name),
				Why:    fmt.Sprintf("writing it changes %s, and %s stays as after reset", other.Name, l.Unit.Name),
				Change: "name the field of " + l.Unit.Name,
			}
			if own := l.ownField(where[len(register)+1:]); own != "" {
				value := strings.Replace(l.Unit.Control[setting], where, own, 1)
				f.Fixes = []finding.Fix{{Label: setting + " to " + own, Edits: []finding.Edit{{Path: []string{"mcu", "units", l.Unit.Name, "control", setting}, Value: value}}}}
			}
			out = append(out, f)
		}
	}
	return out
}

// claims says whether one of the unit's own settings goes into a field.
func (u *Unit) claims(where string) bool {
	for setting, text := range u.Control {
		if w, _ := fieldAndWord(text); w == where && !slices.Contains(sharedRoles, setting) {
			return true
		}
	}
	return false
}

func (u *Unit) fieldsIn(register string) int {
	n := 0
	for _, text := range u.Control {
		if strings.HasPrefix(text, register+".") {
			n++
		}
	}
	return n
}

// ownField gives the field with the same name in the register that holds most of
// the unit's settings; "" where there is none.
func (l *Link) ownField(name string) string {
	if l.registers == nil {
		return ""
	}
	registers := map[string]int{}
	for _, text := range l.Unit.Control {
		where, _ := fieldAndWord(text)
		registers[where[:strings.LastIndexByte(where, '.')]]++
	}
	names := slices.Sorted(maps.Keys(registers))
	sort.SliceStable(names, func(i, j int) bool { return registers[names[i]] > registers[names[j]] })
	for _, r := range names {
		if _, _, err := place(l.registers, r+"."+name); err == nil && !l.claimedElsewhere(r+"."+name) {
			return r + "." + name
		}
	}
	return ""
}

func (l *Link) claimedElsewhere(where string) bool {
	for _, u := range l.units {
		if u != l.Unit && u.claims(where) {
			return true
		}
	}
	return false
}
