package api

import (
	"net/http"
	"reflect"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/service/web"
)

// promise adds to the document what is true of all similar operations: how one signs in, for what one is asked again,
// and with what a call may be refused.
func promise[I any](def *huma.Operation, o op) {
	def.Tags = tagOfPath(o.path)
	changes := o.method != http.MethodGet
	def.Errors = []int{422, 429, 503}
	if o.Role != "" {
		def.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
		def.Errors = append(def.Errors, 401, 403, 404)
	}

	if changes {
		def.Errors = append(def.Errors, 409, 413, 507)
	}

	if _, guarded := reflect.TypeFor[I]().FieldByName("IfMatch"); guarded {
		def.Errors = append(def.Errors, 412)
	}

	if changes && o.Role != "" {
		most := web.MaxKey
		def.Parameters = append(def.Parameters, &huma.Param{
			Name:   web.KeyHeader,
			In:     "header",
			Schema: &huma.Schema{Type: huma.TypeString, MaxLength: &most},
			Description: "A word of the caller's own for this one call: made again with the same one within a day " +
				"it is not carried out again, and has the answer that it had",
		})
	}
}

// refusing says which headers come with which statuses.
var refusing = map[int]*huma.Param{
	http.StatusUnauthorized: {
		Name:        "WWW-Authenticate",
		Description: "How one signs in (RFC 9110, 11.6.1), or that one has to show again who one is (RFC 9470)",
	},
	http.StatusTooManyRequests: {Name: "Retry-After", Description: "In how many seconds to come again"},
	http.StatusServiceUnavailable: {
		Name: "Retry-After", Description: "In how many seconds to come again, where that is known",
	},
}

// explain adds the headers that refusing have.
func explain(item *huma.PathItem, method string) {
	def := map[string]*huma.Operation{
		http.MethodGet:    item.Get,
		http.MethodPost:   item.Post,
		http.MethodPut:    item.Put,
		http.MethodDelete: item.Delete,
		http.MethodPatch:  item.Patch,
	}[method]

	for status, header := range refusing {
		if r := def.Responses[strconv.Itoa(status)]; r != nil {
			if r.Headers == nil {
				r.Headers = map[string]*huma.Param{}
			}
			r.Headers[header.Name] = &huma.Param{
				Description: header.Description,
				Schema:      &huma.Schema{Type: huma.TypeString},
			}
		}
	}
}
