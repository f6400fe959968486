package run

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"trimlantern/outside/database"
	"trimlantern/work"
)

func TestStep(t *testing.T) {
	s := step{1500, 1500}
	alone := func(int) bool { return false }
	assert.Equal(t, 10, s.until(10, alone))
	s.shrink(10)
	assert.Equal(t, 5, s.until(10, alone))
	s.shrink(1)
	assert.Equal(t, 1, s.until(10, alone), "never none")
	assert.Equal(t, 3, s.until(10, func(i int) bool { return i < 3 }), "what belongs together stays together")
	for range 20 {
		s.grow()
	}
	assert.Equal(t, 1500, s.now, "and never more than at first")
}

func TestPatience(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	var p patience
	again := fmt.Errorf("batch: %w (error 1213)", database.ErrAgain)
	assert.True(t, p.wait(ctx, again))
	first := p.pause
	assert.True(t, p.wait(ctx, work.Failed(again, "what", "do")), "also where the error has its words already")
	assert.Greater(t, p.pause, first, "longer each time")
	assert.False(t, p.wait(ctx, errors.New("other")))
	assert.False(t, p.wait(ctx, nil))
	p.since = p.since.Add(-2 * patienceTime)
	assert.False(t, p.wait(ctx, again), "not for ever")
	stop()
	assert.False(t, (&patience{}).wait(ctx, again), "not when the user has had enough")
}

func TestKeyAfter(t *testing.T) {
	table := database.Table{Key: []database.Column{{Name: "a"}, {Name: "b"}}}
	was := [][]byte{[]byte("1"), []byte("2")}
	u := database.Update{Key: was, Columns: []string{"v", "b"}, Values: []database.Value{{Bytes: []byte("x")}, {Bytes: []byte("9")}}}
	assert.Equal(t, [][]byte{[]byte("1"), []byte("9")}, u.KeyAfter(table))
	assert.Equal(t, "2", string(was[1]), "the old key stays as it is")
	u.Columns, u.Values = u.Columns[:1], u.Values[:1]
	assert.Equal(t, was, u.KeyAfter(table))
}
