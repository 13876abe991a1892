package cli

import (
	"strings"
	"testing"

	versions "yareharbour/core/version"
)

func TestComparePairs(t *testing.T) {
	for _, c := range []struct {
		scheme        versions.Scheme
		in, out, fail string
	}{
		{versions.Debian, "1.0~rc1 1.0\n1.0 1.0-0\n\n1:1 9\n", "<\n=\n>\n", ""},
		{versions.RPM, "1.0^git1 1.0\n", ">\n", ""},
		{versions.Semantic, "1.0.0-rc.1 1.0.0\n1.0 1.1\n", "<\n", `line 2: version "1.0" is not of the form`},
		{versions.Dotted, "1.2.0 1.2\n1 2 3\n", "=\n", "line 2 holds 3 versions"},
	} {
		var out strings.Builder
		err := comparePairs(c.scheme, strings.NewReader(c.in), &out)
		if out.String() != c.out || (err == nil) != (c.fail == "") ||
			err != nil && !strings.Contains(err.Error(), c.fail) {
			t.Errorf("%v %q: %q, %v", c.scheme, c.in, out.String(), err)
		}
	}
}
