package api

import "github.com/danielgtaylor/huma/v2/validation"

// What the library says of a value that cannot be, in the words of everything else.
func init() {
	validation.MsgUnexpectedProperty = "unknown field"
	validation.MsgExpectedRequiredProperty = "%s is missing"
	validation.MsgExpectedBoolean = "has to be true or false"
	validation.MsgExpectedNumber = "has to be a number"
	validation.MsgExpectedInteger = "has to be a whole number"
	validation.MsgExpectedString = "has to be text"
	validation.MsgExpectedArray = "has to be a list"
	validation.MsgExpectedObject = "has to be an object"
	validation.MsgExpectedOneOf = "has to be one of \"%s\""
	validation.MsgExpectedMinimumNumber = "has to be at least %v"
	validation.MsgExpectedExclusiveMinimumNumber = "has to be above %v"
	validation.MsgExpectedMaximumNumber = "has to be at most %v"
	validation.MsgExpectedExclusiveMaximumNumber = "has to be below %v"
	validation.MsgExpectedMinLength = "too short: at least %d characters"
	validation.MsgExpectedMaxLength = "too long: at most %d characters"
	validation.MsgExpectedMinItems = "too few entries: at least %d"
	validation.MsgExpectedMaxItems = "too many entries: at most %d"
}
