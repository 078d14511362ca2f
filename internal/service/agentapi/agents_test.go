package agentapi

import (
	"errors"
	"net/http/httptest"
	"strings"
	"testing"

	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Whatever an agent sends, it is refused in words, and before it has cost anything.
func TestBodiesOfAgents(t *testing.T) {
	for _, c := range []struct {
		name, body string
		want       fault.Kind
	}{
		{"nothing", "", fault.KindMalformed},
		{"no JSON", "hello", fault.KindMalformed},
		{"two of them", `{"version":"1"}{"version":"2"}`, fault.KindMalformed},
		{"another type", `{"version":7}`, fault.KindMalformed},
		{"too long", `{"version":"` + strings.Repeat("x", 5<<10) + `"}`, fault.KindTooLarge},
		{"too deep", strings.Repeat("[", 2000) + strings.Repeat("]", 2000), fault.KindTooLarge},
	} {
		t.Run(c.name, func(t *testing.T) {
			var in wire.Hello
			r := httptest.NewRequest("POST", helloPath, strings.NewReader(c.body))
			err := readJSON(httptest.NewRecorder(), r, 4<<10, &in)
			var refused *fault.Error
			if !errors.As(err, &refused) || refused.Kind != c.want || !strings.HasPrefix(refused.Text, "body: ") {
				t.Errorf("%+v, %v", in, err)
			}
		})
	}

	var in wire.Hello
	r := httptest.NewRequest("POST", helloPath, strings.NewReader(`{"version":"1.2"}`))
	if err := readJSON(httptest.NewRecorder(), r, 4<<10, &in); err != nil || in.Version != "1.2" {
		t.Errorf("%+v, %v", in, err)
	}
}
