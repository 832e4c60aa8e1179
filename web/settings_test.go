package web

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/demo"
	"glenrain/desk"
	"glenrain/web/documents"
	"glenrain/web/settings"
	"glenrain/web/station"
)

// The office's name is set by an administrator and shown on every screen; a section more is a value, whose texts, choices, secrets and checks need nothing else.
func TestOfficeSettings(t *testing.T) {
	o := openOffice(t, false)
	more := station.Section{Name: "drafts", Title: "Draft marks", About: "How papers that are not final are marked.", Fields: []station.Setting{
		{Key: "draft.words", Label: "Words", Most: 12, Check: func(v string) error {
			if strings.Contains(v, "!") {
				return errors.New("no exclamation marks")
			}
			return nil
		}},
		{Key: "draft.colour", Label: "Colour", Choices: [][2]string{{"", "grey"}, {"moss", "green"}}},
		{Key: "draft.key", Label: "Key of the records store", Secret: true},
	}}
	var screens []station.Screen
	for _, s := range Screens() {
		if s.Name == "settings" {
			s = settings.Screen(more)
		}
		screens = append(screens, s)
	}
	s, err := New(o.desk, Options{House: demo.House, Screens: screens, Home: documents.Home})
	require.NoError(t, err)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(server.Close)
	c := o.client()
	c.base = server.URL
	c.signIn("isla")
	code, body := c.get("/settings")
	require.Equal(t, http.StatusOK, code)
	for _, words := range []string{"Office settings", "Draft marks", "How papers that are not final", `<option value="moss">green`, `type="password"`} {
		assert.Contains(t, body, words)
	}
	code, body, _ = c.post("/settings/office", url.Values{"office.name": {" Quay & Harbour "}})
	require.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, "Office: saved.")
	for _, path := range []string{"/documents", "/people", "/help"} {
		_, body = c.get(path)
		assert.Contains(t, body, "<strong>Quay &amp; Harbour</strong>", path)
	}
	for wrong, v := range map[string]url.Values{
		"Words can have up to 12 characters":        {"draft.words": {"not final at all"}},
		"No exclamation marks":                      {"draft.words": {"Draft!"}, "draft.colour": {"moss"}},
		"Choose one of the values for colour":       {"draft.words": {"Draft"}, "draft.colour": {"red"}},
		"it doesn’t exist, or it has been deleted.": nil,
	} {
		to := "/settings/drafts"
		if v == nil {
			to = "/settings/nothing"
		}
		code, body, _ := c.post(to, v)
		assert.Contains(t, []int{http.StatusUnprocessableEntity, http.StatusNotFound}, code, wrong)
		assert.Contains(t, strings.ToLower(body), strings.ToLower(wrong))
		if v != nil {
			assert.Contains(t, body, `value="`+v.Get("draft.words")+`"`, "what was typed stays")
		}
	}
	v := url.Values{"draft.words": {"Draft"}, "draft.colour": {"moss"}, "draft.key": {"a secret of ours"}}
	code, body, _ = c.post("/settings/drafts", v)
	require.Equal(t, http.StatusOK, code)
	assert.NotContains(t, body, "a secret of ours")
	assert.Regexp(t, regexp.MustCompile(`name="draft.key"[^>]*placeholder="set`), body)
	v.Set("draft.key", "")
	_, _, _ = c.post("/settings/drafts", v)
	secret, ok, err := o.desk.Unseal(t.Context(), "draft.key")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "a secret of ours", secret, "an empty field leaves it")
	var words string
	_, err = o.desk.Setting(t.Context(), "draft.words", &words)
	require.NoError(t, err)
	assert.Equal(t, "Draft", words)
	lines, err := o.desk.Records(t.Context(), 1, desk.RecordQuery{Most: 20})
	require.NoError(t, err)
	told := ""
	for _, l := range lines {
		told += l.Detail + "; "
	}
	assert.Contains(t, told, "Office: name")
	assert.Contains(t, told, "Draft marks: key of the records store")
	assert.NotContains(t, told, "secret of ours")
}
