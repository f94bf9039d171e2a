package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Input is a value that a person gives when starting a pipeline by hand, or that a part takes as a parameter.
type Input struct {
	Name string `toml:"-" json:"name"`
	// What it is for: shown where it is asked.
	//
	//	about = "Which testers get it"
	About string `toml:"about" json:"about,omitempty"`
	// "text" (the default), "number", "choice" or "flag".
	//
	//	kind = "choice"
	//	choices = ["beta", "public"]
	Kind string `toml:"kind" json:"kind,omitempty"`
	// What may be chosen.
	//
	//	kind = "choice"
	//	choices = ["beta", "public"]
	Choices []string `toml:"choices" json:"choices,omitempty"`
	// The value when none is given.
	//
	//	default = "beta"
	Default any `toml:"default" json:"default,omitempty"`
	// Set to true when a value must be given.
	//
	//	required = true
	Required bool `toml:"required" json:"required,omitempty"`
	// Regular expression (RE2) that the whole text must match.
	//
	//	pattern = "[a-z]+"
	Pattern string `toml:"pattern" json:"pattern,omitempty"`
}

// The kinds of input.
const (
	TextInput   = "text"
	NumberInput = "number"
	ChoiceInput = "choice"
	FlagInput   = "flag"
)

// MaxInput is the most bytes the value of an input may have.
const MaxInput = 10 << 10

// Variable is the environment variable in which steps find an input.
func (i *Input) Variable() string {
	return "PISTON_INPUT_" + strings.ToUpper(strings.ReplaceAll(i.Name, "-", "_"))
}

// Accept checks a value given as text and returns it as conditions see it: a string, a float64 or a bool.
func (i *Input) Accept(text string) (any, error) {
	refuse := func(format string, args ...any) (any, error) {
		return nil, fmt.Errorf("input %s: %s", i.Name, fmt.Sprintf(format, args...))
	}
	switch {
	case len(text) > MaxInput:
		return refuse("the value has %d bytes; it may have %d. Put larger things into a file of the repository", len(text),
			MaxInput)
	case !utf8.ValidString(text) || strings.ContainsRune(text, 0):
		return refuse("the value is no text that fits into an environment variable")
	case text == "" && i.Required:
		return refuse("a value must be given")
	}
	switch i.Kind {
	case NumberInput:
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || n != n || n > 1e300 || n < -1e300 {
			return refuse("%.60q is no number", text)
		}
		return n, nil
	case FlagInput:
		switch text {
		case "true", "yes":
			return true, nil
		case "false", "no", "":
			return false, nil
		}
		return refuse("%.60q is neither true nor false", text)
	case ChoiceInput:
		if !slices.Contains(i.Choices, text) {
			return refuse("%.60q is not one of %s", text, strings.Join(i.Choices, ", "))
		}
	}
	if i.Pattern != "" && text != "" {
		if whole := regexp.MustCompile(`\A(?:` + i.Pattern + `)\z`); !whole.MatchString(text) {
			return refuse("%.60q does not match %s", text, i.Pattern)
		}
	}
	return text, nil
}

// DefaultText is the default as text; "" when there is none.
func (i *Input) DefaultText() string {
	switch v := i.Default.(type) {
	case nil:
		if i.Kind == ChoiceInput && len(i.Choices) > 0 && !i.Required {
			return i.Choices[0]
		}
		if i.Kind == FlagInput {
			return "false"
		}
		if i.Kind == NumberInput && !i.Required {
			return "0"
		}
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	default:
		return fmt.Sprint(v)
	}
}

// AcceptAll checks the values given for inputs; defaults stand for those that are missing. Texts are what steps get,
// values what conditions see. Every problem is in the error.
func AcceptAll(inputs map[string]*Input, given map[string]string) (texts map[string]string, values map[string]any,
	err error) {
	var problems []string
	texts, values = map[string]string{}, map[string]any{}
	for _, name := range sortedKeys(given) {
		if inputs[name] == nil {
			text := fmt.Sprintf("there is no input %.60q", name)
			if near := nearest(name, sortedKeys(inputs)); near != "" {
				text += fmt.Sprintf("; did you mean %q?", near)
			}
			problems = append(problems, text)
		}
	}
	for _, name := range sortedKeys(inputs) {
		text, ok := given[name]
		if !ok {
			text = inputs[name].DefaultText()
		}
		value, err := inputs[name].Accept(text)
		if err != nil {
			problems = append(problems, err.Error())
			continue
		}
		texts[name], values[name] = text, value
		if b, is := value.(bool); is {
			texts[name] = strconv.FormatBool(b)
		}
	}
	if problems != nil {
		return nil, nil, fmt.Errorf("%s", strings.Join(problems, "; "))
	}
	return texts, values, nil
}
