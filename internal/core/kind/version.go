package kind

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// versionParts are the numbers of a version and, of one that comes before the release, its stage: 6.6-RC3, 6.7-alpha-58716, 5.1.0b2.
var versionParts = regexp.MustCompile(`(?i)^v?([0-9]+(?:\.[0-9]+)*)(?:[-.~_+ ]?(dev|alpha|beta|pre|rc|a|b)[-.~_]?([0-9]*)(?:[^a-z]|$))?`)

// stages come before a release, in this order (PHP manual, version_compare).
var stages = []string{"dev", "alpha", "beta", "rc"}

// CompareVersions compares dotted numbers part by part, and what comes before a release with it; it is negative when a is the lower one.
func CompareVersions(a, b string) int {
	x, stageX, nX := partsOf(a)
	y, stageY, nY := partsOf(b)
	for i := range max(len(x), len(y)) {
		var m, n int
		if i < len(x) {
			m = x[i]
		}
		if i < len(y) {
			n = y[i]
		}
		if m != n {
			return m - n
		}
	}
	return cmp.Or(stageX-stageY, nX-nY)
}

// partsOf takes a version apart. A release has the stage that follows all others.
func partsOf(version string) (numbers []int, stage, n int) {
	m := versionParts.FindStringSubmatch(strings.TrimSpace(version))
	if m == nil {
		return nil, len(stages), 0
	}
	for part := range strings.SplitSeq(m[1], ".") {
		number, _ := strconv.Atoi(part)
		numbers = append(numbers, number)
	}
	if m[2] == "" {
		return numbers, len(stages), 0
	}
	name := strings.ToLower(m[2])
	switch name {
	case "a":
		name = "alpha"
	case "b", "pre":
		name = "beta"
	}
	n, _ = strconv.Atoi(m[3])
	return numbers, slices.Index(stages, name), n
}
