package kits

import (
	"encoding/json"
	"html"
	"regexp"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Answers takes what a person has answered, fills in what is usual, and refuses the rest: all at
// once, each at answers.NAME.
//
// Refusals: InvalidInput.
func (k Kit) Answers(given map[string]string) (map[string]string, error) {
	out := map[string]string{}
	var wrong []refusal.Field
	for _, a := range k.Asks {
		value, err := a.answer(given[a.Name])
		if err != nil {
			wrong = append(wrong, refusal.Wrong("answers."+a.Name, "%s", err))
		}
		out[a.Name] = value
	}
	for name := range given {
		if !slices.ContainsFunc(k.Asks, func(a Ask) bool { return a.Name == name }) {
			wrong = append(wrong, refusal.Wrong("answers."+name, "is nothing that %s asks for", k.Name))
		}
	}
	if len(wrong) > 0 {
		slices.SortFunc(wrong, func(x, y refusal.Field) int { return strings.Compare(x.Name, y.Name) })
		return nil, refusal.New(refusal.InvalidInput, "some answers are wrong").At(wrong)
	}
	return out, nil
}

// answer is the value of an answer.
func (a Ask) answer(given string) (string, error) {
	given = strings.TrimSpace(given)
	if given == "" {
		given = a.Default
	}
	if given == "" && a.Optional {
		return "", nil
	}
	if err := checkLine(given, 200, false); err != nil {
		return "", err
	}
	switch {
	case a.Kind == AskEmail && !emailAddress.MatchString(given):
		return "", language.Errorf("%q is no mail address", given)
	case a.Kind == AskChoice && !slices.Contains(a.Choices, given):
		return "", language.Errorf("must be one of %s", strings.Join(a.Choices, ", "))
	}
	return given, nil
}

// Values are what templates are filled in with, by name: answers, secrets, and [SiteValues].
type Values map[string]string

// SiteValues are the names that are there in every kit, and of those of [DatabaseValues] where it
// has a database.
var (
	SiteValues     = []string{"site_name", "site_address"}
	DatabaseValues = []string{"database_dsn", "database_host", "database_port", "database_socket", "database_name",
		"database_user", "database_password"}
)

// fields are the names that templates of the kit can have.
func (k Kit) fields() []string {
	out := slices.Clone(SiteValues)
	if k.Needs.Database != "" {
		out = append(out, DatabaseValues...)
	}
	for _, a := range k.Asks {
		out = append(out, a.Name)
	}
	for _, s := range k.Secrets {
		out = append(out, s.Name)
	}
	return out
}

// field is a place in a template: {{FORM NAME}}.
var field = regexp.MustCompile(`\{\{\s*([^{}\n]{0,80}?)\s*\}\}`)

// forms say how a value is written, so that no value can be more than a value where it stands.
var forms = map[string]func(string) string{
	"php":  phpText,
	"html": html.EscapeString,
	"json": jsonText,
	"line": func(s string) string { return s },
}

// phpText is a string literal of PHP, with its quotes.
func phpText(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

// jsonText is a string of JSON, with its quotes, that can stand in a script element, too.
func jsonText(s string) string {
	text, _ := json.Marshal(s) // which a string always can be
	return string(text)
}

// Fill fills in a template.
//
// Refusals: InvalidInput.
func Fill(file string, template []byte, values Values) ([]byte, error) {
	var wrong error
	out := field.ReplaceAllFunc(template, func(found []byte) []byte {
		form, name, _ := strings.Cut(string(field.FindSubmatch(found)[1]), " ")
		write, known := forms[form]
		value, there := values[strings.TrimSpace(name)]
		if (!known || !there) && wrong == nil {
			wrong = wrongField(file, string(found))
		}
		if wrong != nil {
			return nil
		}
		return []byte(write(value))
	})
	return out, wrong
}

func wrongField(file, found string) error {
	return refusal.Input(FilesDir+"/"+file, "%s names nothing that there is: write {{php NAME}}, {{html NAME}}, "+
		"{{json NAME}} or {{line NAME}} with a question, a secret, or a value of the site or its database", found)
}

// checkTemplate fills in a template with any values, to see whether it can be.
func (k Kit) checkTemplate(file string, template []byte) error {
	values := Values{}
	for _, name := range k.fields() {
		values[name] = "value"
	}
	_, err := Fill(file, template, values)
	return err
}
