package kind

import (
	"reflect"
	"slices"
	"strings"
)

// Own reports whether a place holds what each site has its own of, so that no value of a client's belongs there: its address, how its
// database is reached, keys, and folders.
func (k *Kind) Own(place Value) bool {
	if slices.ContainsFunc(k.Address, func(v Value) bool { return reflect.DeepEqual(v, place) }) {
		return true
	}
	if place.Setting == "" {
		return false
	}
	own := slices.Concat(k.Settings.Database.Names(), k.Settings.Salts, []string{k.Settings.Prefix, k.Settings.Hosts})
	for _, f := range k.Settings.Folders {
		own = append(own, f.Setting)
	}
	for _, m := range k.Moved {
		own = append(own, m.Setting)
	}
	return slices.ContainsFunc(own, func(name string) bool { return name == place.Setting || strings.HasPrefix(name, place.Setting+"[") })
}
