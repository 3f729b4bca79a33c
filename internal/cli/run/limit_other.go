//go:build !unix

package run

func ignoreFileLimit() {}
