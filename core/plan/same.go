package plan

import "reflect"

// Same reports whether two items are of the same kind and have the same values.
// An empty list and none are the same; so are times that are the same moment.
func Same(a, b Item) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	return same(reflect.ValueOf(a), reflect.ValueOf(b))
}

func same(a, b reflect.Value) bool {
	if a.Type() != b.Type() {
		return false
	}
	switch a.Kind() {
	case reflect.Slice, reflect.Map:
		return a.Len() == 0 && b.Len() == 0 || reflect.DeepEqual(a.Interface(), b.Interface())
	case reflect.Struct:
		if equal := a.MethodByName("Equal"); equal.IsValid() && equal.Type().NumIn() == 1 && equal.Type().In(0) == a.Type() {
			return equal.Call([]reflect.Value{b})[0].Bool()
		}
		if a.Comparable() {
			return a.Interface() == b.Interface()
		}
		for i := range a.NumField() {
			if !same(a.Field(i), b.Field(i)) {
				return false
			}
		}
		return true
	}
	return a.Interface() == b.Interface()
}
