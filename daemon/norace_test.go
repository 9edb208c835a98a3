//go:build !race

package daemon_test

// slowness is how many times longer everything may take.
const slowness = 1
