//go:build race

package service

// rounds makes what tests try at random a quarter under the race detector, which
// takes ten times as long; the plain run tries all of it.
func rounds(n int) int { return n / 4 }
