package pull

import (
	"reflect"

	"dowsingrod/internal/feed"
)

func same(a, b *feed.Object) bool {
	return a.Name == b.Name && reflect.DeepEqual(a.Facts, b.Facts) && reflect.DeepEqual(a.Links, b.Links)
}
