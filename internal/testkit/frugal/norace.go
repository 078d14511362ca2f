//go:build !race

package frugal

const raced = false
