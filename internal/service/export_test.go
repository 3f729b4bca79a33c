package service

// Rounds is rounds for the tests from outside.
func Rounds(n int) int { return rounds(n) }
