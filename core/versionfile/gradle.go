package versionfile

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// gradle reads a build script, in Groovy or Kotlin (Android developer documentation, "Version your app", "Configure
// build variants"). What stands in an android block counts, in scripts that build no library.
func gradle(f *finder, t *text) {
	g := &gradleReader{finder: f, text: t, app: !libraryForm.MatchString(t.s), dir: path.Dir(t.file)}
	var statement []token
	open := 0 // parentheses and brackets
	end := func() {
		g.statement(statement)
		statement, open = statement[:0], 0
	}
	list := tokens(t.s)
	for i, tok := range list {
		switch {
		case tok.kind == 'l' && (open > 0 || continues(list[i+1:])):
		case tok.kind == 'l':
			end()
		case tok.text == "{" && tok.kind == 'p':
			g.push(statement)
			end()
		case tok.text == "}" && tok.kind == 'p':
			end()
			g.blocks = g.blocks[:max(0, len(g.blocks)-1)]
		default:
			if tok.kind == 'p' {
				switch tok.text {
				case "(", "[":
					open++
				case ")", "]":
					open = max(0, open-1)
				}
			}
			statement = append(statement, tok)
		}
	}
	end()
}

// continues tells that the next line goes on with the statement before it.
func continues(rest []token) bool {
	for _, t := range rest {
		if t.kind != 'l' {
			return t.kind == 'p' && (t.text == "." || t.text == "?" || t.text == "+")
		}
	}
	return false
}

// gradleReader reads one script.
type gradleReader struct {
	*finder
	*text
	blocks []string // names of those that are open; "" for one that names nothing, such as that of an if
	app    bool
	dir    string
}

// maxBlocks bounds how deep blocks are looked into; nobody nests so deep.
const maxBlocks = 200

// namers make an element and name it by their argument.
var namers = map[string]bool{"create": true, "register": true, "getByName": true, "named": true, "maybeCreate": true}

// push opens a block that is named by the statement before its brace: android, or create("free").
func (g *gradleReader) push(head []token) {
	name := ""
	for i, t := range head {
		if t.kind == 'w' && i+2 < len(head) && namers[t.text] && head[i+1].text == "(" && head[i+2].kind == 's' {
			name = strings.Trim(strings.Join(append(words(head[:i]), head[i+2].text), "."), ".")
			break
		}
	}
	if name == "" && len(head) > 0 && head[0].kind == 'w' && !slices.ContainsFunc(head, func(t token) bool {
		return t.kind == 'p' && t.text != "."
	}) {
		name = strings.Join(words(head), ".")
	} else if name == "" && len(head) == 1 && head[0].kind == 's' {
		name = head[0].text // Groovy: 'free' { … }
	}
	if len(g.blocks) < maxBlocks {
		g.blocks = append(g.blocks, name)
	}
}

func words(list []token) (out []string) {
	for _, t := range list {
		if t.kind == 'w' {
			out = append(out, t.text)
		}
	}
	return out
}

// gradleKeys are what versions are written as.
var gradleKeys = map[string]Kind{"versionCode": Build, "versionName": Name, "setVersionCode": Build,
	"setVersionName": Name, "applicationId": ID, "setApplicationId": ID}

// statement reads one.
func (g *gradleReader) statement(list []token) {
	g.defines(list)
	for i, t := range list {
		kind, is := gradleKeys[t.text]
		if t.kind != 'w' || !is || !pathBefore(list[:i]) {
			continue
		}
		key := strings.Split(strings.Join(append(slices.Clone(g.blocks), words(list[:i])...), "."), ".")
		if value := valueBehind(list[i+1:]); len(value) > 0 && g.app && slices.Contains(key, "android") {
			g.place(Place{Kind: kind, Platform: Android, Format: "Gradle", Of: flavourOf(key), key: t.text}, value)
		}
		return
	}
}

// pathBefore tells that before a key there stands nothing but what leads to it, as in android.defaultConfig.
func pathBefore(list []token) bool {
	for i, t := range list {
		if i%2 == 0 && t.kind != 'w' || i%2 == 1 && t.text != "." {
			return false
		}
	}
	return len(list)%2 == 0
}

// valueBehind is what a key is set to: "= 12", "(12)", ".set(12)" or, in Groovy, just "12".
func valueBehind(list []token) []token {
	if len(list) > 2 && list[0].text == "." && list[1].text == "set" {
		list = list[2:]
	}
	switch {
	case len(list) == 0:
		return nil
	case list[0].kind == 'p' && list[0].text == "=":
		if len(list) > 1 && list[1].text == "=" {
			return nil // a comparison
		}
		return list[1:]
	case list[0].kind == 'p' && list[0].text == "(" && list[len(list)-1].text == ")":
		return list[1 : len(list)-1]
	case list[0].kind == 'p' && list[0].text != "(" && list[0].text != "-":
		return nil
	}
	return list
}

// flavourOf is which flavour or build type a path of blocks is for; "" for all.
func flavourOf(key []string) string {
	for i, word := range key {
		switch word {
		case "productFlavors", "buildTypes":
			rest := slices.DeleteFunc(slices.Clone(key[i+1:]), func(s string) bool { return s == "" || s == "all" })
			if len(rest) > 0 {
				return rest[0]
			}
		}
	}
	return ""
}

// place takes in a value: a literal, what it refers to, or what it is computed from.
func (g *gradleReader) place(p Place, value []token) {
	first, last := value[0], value[len(value)-1]
	if lit, is := literal(value); is {
		g.add(g.text, p, lit.start, lit.end)
		return
	}
	p.ref, p.Variable = gradleReference(value)
	p.Computed = computedFrom(value)
	g.add(g.text, p, first.start, last.end)
}

// literal is the value when it is one text or number, also when it is made an integer.
func literal(value []token) (token, bool) {
	value = unwrap(value)
	if len(value) == 1 && (value[0].kind == 'n' || value[0].kind == 's') && !value[0].parts {
		return value[0], true
	}
	return token{}, false
}

// conversions change how a value is held, not what it is.
var conversions = map[string]bool{"toInteger": true, "toInt": true, "get": true, "toString": true, "intValue": true,
	"trim": true}

// unwrap takes conversions off a value: .toInteger(), as int, Integer.parseInt( ), !!.
func unwrap(v []token) []token {
	for {
		n := len(v)
		switch {
		case n > 4 && v[n-1].text == ")" && v[n-2].text == "(" && conversions[v[n-3].text] && v[n-4].text == ".":
			v = v[:n-4]
		case n > 2 && v[n-2].kind == 'w' && v[n-2].text == "as":
			v = v[:n-2]
		case n > 1 && v[n-1].text == "!" && v[n-1].kind == 'p':
			v = v[:n-1]
		case n > 5 && v[0].text == "Integer" && v[1].text == "." && v[3].text == "(" && v[n-1].text == ")":
			v = v[4 : n-1]
		case n > 2 && v[0].kind == 'p' && v[0].text == "(" && v[n-1].text == ")" && !strings.Contains(joined(v[1:n-1]), "("):
			v = v[1 : n-1]
		default:
			return v
		}
	}
}

func joined(v []token) string {
	var b strings.Builder
	for _, t := range v {
		b.WriteString(t.text)
	}
	return b.String()
}

// lookups read a property by the name that is their argument.
var lookups = map[string]bool{"property": true, "findProperty": true, "gradleProperty": true, "getProperty": true,
	"extra": true, "ext": true, "propertyOrNull": true}

// gradleReference is what a value is taken from, when it is taken from one thing: "property X", "catalog a.b". A
// variable of the environment is told apart.
func gradleReference(value []token) (ref, variable string) {
	for i, t := range value {
		if t.kind == 'w' && (t.text == "getenv" || t.text == "environmentVariable") && i+2 < len(value) &&
			value[i+2].kind == 's' {
			return "", value[i+2].text
		}
	}
	v := unwrap(value)
	if n := len(v); n > 3 && v[n-1].text == ")" && v[n-2].kind == 's' && v[n-3].text == "(" && lookups[v[n-4].text] ||
		n > 3 && v[n-1].text == "]" && v[n-2].kind == 's' && v[n-3].text == "[" {
		return "property " + v[n-2].text, ""
	}
	if !pathBefore(append(slices.Clone(v), token{kind: 'p', text: "."})) {
		return "", ""
	}
	list := words(v)
	if len(list) > 2 && list[1] == "versions" {
		return "catalog " + strings.Join(list[2:], "."), ""
	}
	for len(list) > 1 && (list[0] == "rootProject" || list[0] == "project" || list[0] == "ext" || list[0] == "this") {
		list = list[1:]
	}
	return "property " + strings.Join(list, "."), ""
}

// computedFrom says what a value depends on.
func computedFrom(value []token) string {
	var on []string
	for _, t := range value {
		switch {
		case t.kind == 's':
			on = append(on, t.text)
		case t.kind == 'w' && !conversions[t.text]:
			on = append(on, t.text)
		}
	}
	on = slices.Compact(on)
	if len(on) > 6 {
		on = append(on[:6], "…")
	}
	return fmt.Sprintf("it is computed from %s", cut(strings.Join(on, ", "), 120))
}

func cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// defines takes in variables and extra properties that versions may be taken from: def x = 1, val x = "1.2",
// ext.x = 1, ext { x = 1 }, extra["x"] = 1, set("x", 1), and the entries of ext.x = [code: 1].
func (g *gradleReader) defines(list []token) {
	p := Place{Format: "Gradle"}
	eq := slices.IndexFunc(list, func(t token) bool { return t.kind == 'p' && t.text == "=" })
	if eq <= 0 {
		if n := len(list); n > 5 && list[n-6].text == "set" && list[n-4].kind == 's' && list[n-3].text == "," {
			if lit, is := literal(list[n-2 : n-1]); is {
				g.define(g.text, "property "+list[n-4].text, p, lit.start, lit.end)
			}
		}
		return
	}
	name := list[eq-1].text
	if n := eq; list[eq-1].text == "]" && n > 2 && list[eq-2].kind == 's' {
		name = list[eq-2].text
	} else if list[eq-1].kind != 'w' {
		return
	} else if eq > 2 && list[eq-2].text == ":" { // val x: Int = 1
		name = list[eq-3].text
	}
	value := list[eq+1:]
	if lit, is := literal(value); is {
		g.define(g.text, "property "+name, p, lit.start, lit.end)
		return
	}
	for i := 0; i+2 < len(value); i++ {
		if value[i].kind == 'w' && value[i+1].text == ":" && (value[i+2].kind == 'n' || value[i+2].kind == 's') &&
			!value[i+2].parts {
			g.define(g.text, "property "+name+"."+value[i].text, p, value[i+2].start, value[i+2].end)
		}
	}
}
