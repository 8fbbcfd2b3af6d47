package report

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"sternledger/internal/contract"
	"sternledger/internal/core/check"
)

// A course has a line for each verdict, its names keep off each other, and one
// weighing has none.
func TestCourseChart(t *testing.T) {
	var course []contract.CoursePoint
	for i := range 12 {
		course = append(course, contract.CoursePoint{Weighing: int64(i + 1), At: time.Unix(int64(i)*86400, 0).UTC().Format(time.RFC3339),
			Findings: map[check.Kind]int{check.Weak: 40 - i, check.Conflicting: 20, check.Missing: 20, check.Waived: i}})
	}
	if courseChart(course[:1]) != "" || courseChart(nil) != "" {
		t.Error("one weighing has a course")
	}
	text := string(courseChart(course))
	if n := strings.Count(text, `class="course `); n != 4 {
		t.Errorf("%d lines", n)
	}
	if !strings.Contains(text, "weighing 12, 1970-01-12: 29 weak, 20 conflicting, 20 missing, 11 waived") {
		t.Error("the course is not told in words")
	}
	var last string
	for _, m := range regexp.MustCompile(`y="([0-9.]+)" class="tick left`).FindAllStringSubmatch(text, -1) {
		if m[1] == last {
			t.Errorf("two names at the height %s", last)
		}
		last = m[1]
	}
	for most, want := range map[int]int{1: 1, 6: 1, 7: 2, 40: 10, 343: 50, 5000: 1000} {
		if got := niceStep(most); got != want {
			t.Errorf("up to %d in steps of %d, want %d", most, got, want)
		}
	}
	for name, want := range map[[2]string]string{
		{"marrowick.example", "Pilots"}:                                           "marrowick.example / Pilots",
		{"marrowickharbour.cloud.example", "Harbour Office of marrowick.example"}: "marrowickharb… / Harbour Office of marrowic…",
		{strings.Repeat("a", 60), "local"}:                                        strings.Repeat("a", 35) + "… / local",
	} {
		if got := label(name[0], name[1]); got != want {
			t.Errorf("%q is drawn as %q, want %q", name, got, want)
		}
	}
}
