// Package deepcopy takes the place of the module that the workbook's package names
// (go.mod, replace). That one also copies by calling methods that it finds by their
// names, and a program in which anything does that keeps every method of every
// type: three megabytes of ours. Here is what the workbook's package asks for:
// a value is copied to one of its own type.
package deepcopy

import (
	"fmt"
	"reflect"
)

// Copy sets what dst points to to a copy of src that shares nothing with it. src is
// a value of that type or points to one. Of a struct its exported fields are
// copied; one that has none is set as a whole.
func Copy(dst, src any) error {
	to, from := reflect.ValueOf(dst), reflect.ValueOf(src)
	if to.Kind() != reflect.Pointer || to.IsNil() {
		return fmt.Errorf("deepcopy: to %T: a pointer is needed to copy to", dst)
	}
	to = to.Elem()
	for from.Kind() == reflect.Pointer && from.Type() != to.Type() {
		from = from.Elem()
	}
	if !from.IsValid() || from.Type() != to.Type() {
		return fmt.Errorf("deepcopy: from %T to %T: not the same type", src, dst)
	}
	set(to, from)
	return nil
}

func set(to, from reflect.Value) {
	switch from.Kind() {
	case reflect.Pointer:
		if from.IsNil() {
			to.SetZero()
			return
		}
		to.Set(reflect.New(from.Type().Elem()))
		set(to.Elem(), from.Elem())
	case reflect.Interface:
		if from.IsNil() {
			to.SetZero()
			return
		}
		held := reflect.New(from.Elem().Type()).Elem()
		set(held, from.Elem())
		to.Set(held)
	case reflect.Slice:
		if from.IsNil() {
			to.SetZero()
			return
		}
		to.Set(reflect.MakeSlice(from.Type(), from.Len(), from.Len()))
		for i := range from.Len() {
			set(to.Index(i), from.Index(i))
		}
	case reflect.Array:
		for i := range from.Len() {
			set(to.Index(i), from.Index(i))
		}
	case reflect.Map:
		if from.IsNil() {
			to.SetZero()
			return
		}
		to.Set(reflect.MakeMapWithSize(from.Type(), from.Len()))
		for each := from.MapRange(); each.Next(); {
			held := reflect.New(each.Value().Type()).Elem()
			set(held, each.Value())
			to.SetMapIndex(each.Key(), held)
		}
	case reflect.Struct:
		exported := false
		for i := range from.NumField() {
			if from.Type().Field(i).IsExported() {
				exported = true
				set(to.Field(i), from.Field(i))
			}
		}
		if !exported {
			to.Set(from)
		}
	default:
		to.Set(from)
	}
}
