// Package diff compares two configurations line by line and says what an
// engineer wants to know: which lines came, went, changed or merely moved, and
// in which section each of them stands.
//
// The problem is not the shortest edit script but the one that reads well. The
// usual algorithm (Myers, 1986) minimises edits and is happy to match the
// closing line of one section with that of another. So [Edits] first anchors on
// lines that occur exactly once on both sides, keeps the longest run of them
// that is in order on both (patience difference; Szymanski's reduction to a
// longest increasing subsequence), grows each anchor in both directions, and
// runs Myers only inside the small gaps that are left, with a bound on its
// work. It takes O(n log n) time for n lines plus the bounded work of the gaps.
// The result is not always minimal; it is always correct: applying it to the
// left text gives the right text.
//
// [Compare] then classifies: a removed and an added line with the same text
// under the same headings, each of them unique, is one line that moved; a
// removed and an added line of one gap that share at least half of their words
// are one line that changed. Lines that do not count (times, counters) and
// secrets that are written anew at each show are set aside, and counted.
package diff
