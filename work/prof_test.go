package work

import (
	"context"
	"io"
	"testing"
)

type noProgress struct{}

func (noProgress) At(string, int64, int64) {}
func (noProgress) End()                    {}

func BenchmarkX(b *testing.B) {
	for b.Loop() {
		_, err := Filter(context.Background(), FilterOptions{Site: "https://ternrock.example", In: "/dev/shm/dump.sql", Stdout: io.Discard}, noProgress{})
		if err != nil {
			b.Fatal(err)
		}
	}
}
