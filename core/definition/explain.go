package definition

import (
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"
)

// Value is one value of a pipeline as it is understood, and where it is from.
type Value struct {
	// Its path, such as job.android.step[0].script.
	Key string `json:"key"`
	// The value, as TOML writes it.
	Text string `json:"value"`
	// The job it is of.
	Of string `json:"of,omitempty"`
	// Place in a file, or why it is so without one.
	From string `json:"from"`
}

// Explain lists every value of a pipeline that Parse has returned, with variants and parts laid out.
func (p *Pipeline) Explain() []Value {
	e := &explainer{ix: p.ix}
	for _, f := range fields(reflect.TypeFor[Pipeline]()) {
		if key := f.Tag.Get("toml"); key != "job" {
			e.walk(reflect.ValueOf(p).Elem().FieldByIndex(f.Index), []string{key}, key)
		}
	}
	for _, name := range p.JobNames() {
		e.job(p, p.Job[name])
	}
	return e.list
}

type explainer struct {
	ix   *index
	of   string // the job that is being explained
	list []Value
}

func (e *explainer) job(p *Pipeline, job *Job) {
	e.of = job.Name
	top := "job." + quotedKey(job.Name)
	for _, f := range fields(reflect.TypeFor[Job]()) {
		key := f.Tag.Get("toml")
		value := reflect.ValueOf(job).Elem().FieldByIndex(f.Index)
		at := []string{"job", job.written, key}
		switch {
		case key == "variants":
		case key == "limit" && !e.has(at):
			from := "default"
			if p.Limit != "" {
				from = e.place([]string{"limit"}) + ", of the pipeline"
			}
			e.add(top+".limit", strconv.Quote(string(job.Limit)), from)
		case key == "env":
			e.env(job, top)
		default:
			e.walk(value, at, top+"."+key)
		}
	}
}

// env lists a job's variables: some are the values of its variant.
func (e *explainer) env(job *Job, top string) {
	for _, name := range sortedKeys(job.Env) {
		from := e.place([]string{"job", job.written, "env", name})
		if v, is := job.Variant[name]; is && v == job.Env[name] && !e.has([]string{"job", job.written, "env", name}) {
			from = e.place([]string{"job", job.written, "variants", "over", name}) + ", of the variant"
		}
		e.add(top+".env."+name, strconv.Quote(job.Env[name]), from)
	}
}

func (e *explainer) has(at []string) bool {
	return e.ix.has(at...)
}

func (e *explainer) place(at []string) string {
	if !e.has(at) {
		return "default"
	}
	p := e.ix.place(at...)
	return fmt.Sprintf("%s:%d", p.src.file, p.line)
}

func (e *explainer) add(key, text, from string) {
	e.list = append(e.list, Value{Key: key, Text: text, Of: e.of, From: from})
}

func (e *explainer) walk(v reflect.Value, at []string, name string) {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			return
		}
		v = v.Elem()
	}
	in := func(part string) []string { return append(append([]string(nil), at...), part) }
	switch v.Kind() {
	case reflect.Struct:
		if v.NumField() == 0 || len(fields(v.Type())) == 0 {
			return
		}
		empty := true
		for _, f := range fields(v.Type()) {
			key, value := f.Tag.Get("toml"), v.FieldByIndex(f.Index)
			if value.IsZero() {
				continue
			}
			empty = false
			e.walk(value, in(key), name+"."+key)
		}
		if empty && e.has(at) {
			e.add(name, "{}", e.place(at))
		}
	case reflect.Map:
		keys := v.MapKeys()
		sort.Slice(keys, func(i, j int) bool { return keys[i].String() < keys[j].String() })
		for _, k := range keys {
			e.walk(v.MapIndex(k), in(k.String()), name+"."+quotedKey(k.String()))
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.String || v.Type().Elem().Kind() == reflect.Int {
			if v.Len() > 0 {
				e.add(name, listText(v), e.place(at))
			}
			return
		}
		for i := range v.Len() {
			e.walk(v.Index(i), in(strconv.Itoa(i)), fmt.Sprintf("%s[%d]", name, i))
		}
	default:
		if !v.IsZero() || e.has(at) {
			e.add(name, scalarText(v), e.place(at))
		}
	}
}

func listText(v reflect.Value) string {
	items := make([]string, v.Len())
	for i := range items {
		items[i] = scalarText(v.Index(i))
	}
	return "[" + strings.Join(items, ", ") + "]"
}

func scalarText(v reflect.Value) string {
	if v.Kind() == reflect.String {
		return strconv.Quote(v.String())
	}
	return fmt.Sprint(v.Interface())
}

// quotedKey writes a key as TOML needs it (TOML 1.0, Keys).
func quotedKey(k string) string {
	if k != "" && strings.Trim(k, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-") == "" {
		return k
	}
	return strconv.Quote(k)
}
