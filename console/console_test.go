package console

import "testing"

// Every page can be reloaded, and nothing else is taken for one. The router shows the pages of the
// same list.
func TestPagesAreThoseOfTheRouter(t *testing.T) {
	for _, path := range []string{"", "runs", "runs/12", "decide", "decide/3", "buy", "buy/9", "twins", "twins/4", "twins/fits/4", "tune", "efficiency", "compare/view", "volumes/", "sign-in"} {
		if !IsPage(path) {
			t.Errorf("%q is no page", path)
		}
	}
	for _, path := range []string{"run", "runs/12/3", "twins/fits", "api/v1/runs", "assets/x.js", "arrays", "decide/3/4"} {
		if IsPage(path) && path != "twins/fits" { // which is a twin of that name, and says that there is none
			t.Errorf("%q is a page", path)
		}
	}
}
