package httpapi

import (
	"cmp"
	"regexp"
	"strings"

	"github.com/danielgtaylor/huma/v2/validation"

	"victualler/internal/hosting/language"
)

// What huma says of values that a schema does not allow, in sentences for people. Each comes behind
// the name of its field.
func init() {
	validation.MsgUnexpectedProperty = "there is no such field here"
	validation.MsgExpectedRequiredProperty = "%v is missing"
	validation.MsgExpectedDependentRequiredProperty = "%v is missing, which %v needs"
	validation.MsgExpectedOneOf = "write one of %v"
	validation.MsgExpectedString = "write a text"
	validation.MsgExpectedBoolean = "write true or false"
	validation.MsgExpectedNumber = "write a number"
	validation.MsgExpectedInteger = "write a whole number"
	validation.MsgExpectedArray = "write a list"
	validation.MsgExpectedObject = "write an object"
	validation.MsgExpectedArrayItemsUnique = "nothing may be in the list twice"
	validation.MsgExpectedMinimumNumber = "write %v or more"
	validation.MsgExpectedExclusiveMinimumNumber = "write more than %v"
	validation.MsgExpectedMaximumNumber = "write %v or less"
	validation.MsgExpectedExclusiveMaximumNumber = "write less than %v"
	validation.MsgExpectedNumberBeMultipleOf = "write a multiple of %v"
	validation.MsgExpectedMinLength = "write %v characters or more"
	validation.MsgExpectedMaxLength = "write %v characters at most"
	validation.MsgExpectedMinItems = "name %v or more"
	validation.MsgExpectedMaxItems = "name %v at most"
	validation.MsgExpectedMinProperties = "the object needs %v entries or more"
	validation.MsgExpectedMaxProperties = "the object has %v entries at most"
	validation.MsgExpectedRFC3339DateTime = "write a moment such as 2026-12-31T18:00:00Z"
	validation.MsgExpectedRFC3339Date = "write a day such as 2026-12-31"
	validation.MsgExpectedRFC5322Email = "write a mail address (%v)"
	validation.MsgExpectedBase64String = "write base64"
	validation.MsgExpectedMatchPattern = "write it as the pattern %v wants"
	validation.MsgExpectedMatchAtLeastOneSchema = "this is of none of the kinds that can be here"
	validation.MsgExpectedMatchExactlyOneSchema = "this is of none of the kinds that can be here"
}

// parameterSentences are those of values in paths and queries, for which huma has no names.
var parameterSentences = map[string]string{
	"invalid integer": "write a whole number", "invalid float": "write a number",
	"invalid boolean":                     "write true or false",
	"required query parameter is missing": "is missing", "required path parameter is missing": "is missing",
	"required header parameter is missing": "is missing",
}

// formats are those of the sentences with values in them: huma hands over what it has made of them.
var formats = []*string{&validation.MsgExpectedRequiredProperty, &validation.MsgExpectedDependentRequiredProperty,
	&validation.MsgExpectedOneOf, &validation.MsgExpectedMinimumNumber, &validation.MsgExpectedExclusiveMinimumNumber,
	&validation.MsgExpectedMaximumNumber, &validation.MsgExpectedExclusiveMaximumNumber,
	&validation.MsgExpectedNumberBeMultipleOf, &validation.MsgExpectedMinLength, &validation.MsgExpectedMaxLength,
	&validation.MsgExpectedMinItems, &validation.MsgExpectedMaxItems, &validation.MsgExpectedMinProperties,
	&validation.MsgExpectedMaxProperties, &validation.MsgExpectedRFC5322Email, &validation.MsgExpectedMatchPattern}

// sentence makes a text of what huma says of a value.
func sentence(message string) language.Text {
	for _, format := range formats {
		pattern := strings.ReplaceAll(regexp.QuoteMeta(*format), "%v", "(.+)")
		found := regexp.MustCompile("^" + pattern + "$").FindStringSubmatch(message)
		if found == nil {
			continue
		}
		values := make([]any, len(found)-1)
		for i, value := range found[1:] {
			values[i] = value
		}
		return language.New(*format, values...)
	}
	return language.Plain(cmp.Or(parameterSentences[message], message))
}
