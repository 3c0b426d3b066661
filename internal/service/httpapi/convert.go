package httpapi

import (
	"fmt"
	"reflect"
)

// as makes a value of one type from one of another that has the same fields: what travels from what the core or the
// records hold, and the other way. Every exported field of the new value must be in the old one; a test holds each pair of
// types against each other, both ways.
func as[To any](from any) To {
	var to To
	if v := reflect.ValueOf(from); v.IsValid() {
		convert(reflect.ValueOf(&to).Elem(), v)
	}
	return to
}

func convert(to, from reflect.Value) {
	if to.Type() == from.Type() {
		to.Set(from)
		return
	}
	switch to.Kind() {
	case reflect.Struct:
		for i := range to.NumField() {
			if name := to.Type().Field(i).Name; to.Type().Field(i).IsExported() {
				of := from.FieldByName(name)
				if !of.IsValid() {
					panic(fmt.Sprintf("%s has no field %s, which %s has", from.Type(), name, to.Type()))
				}
				convert(to.Field(i), of)
			}
		}
	case reflect.Pointer:
		if !from.IsNil() {
			to.Set(reflect.New(to.Type().Elem()))
			convert(to.Elem(), from.Elem())
		}
	case reflect.Slice:
		if !from.IsNil() {
			to.Set(reflect.MakeSlice(to.Type(), from.Len(), from.Len()))
			for i := range from.Len() {
				convert(to.Index(i), from.Index(i))
			}
		}
	case reflect.Map:
		if !from.IsNil() {
			to.Set(reflect.MakeMapWithSize(to.Type(), from.Len()))
			for _, k := range from.MapKeys() {
				v := reflect.New(to.Type().Elem()).Elem()
				convert(v, from.MapIndex(k))
				to.SetMapIndex(k, v)
			}
		}
	default:
		to.Set(from.Convert(to.Type()))
	}
}
