//go:build race

package conversation_test

// raceEnabled says whether the race detector runs.
const raceEnabled = true
