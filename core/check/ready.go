package check

// ordinary has some of what pipelines have, so that a check of it passes through what most checks do.
const ordinary = `
[trigger.push]
branches = ["main"]
paths = ["src/**"]
[job.a]
tools = { git = ">=2" }
when = 'branch == "main"'
[job.a.cache.depot]
paths = ["depot"]
follows = ["depot.lock"]
[[job.a.step]]
script = '''
set -e
test -d src || mkdir -p src
make -C src all > log.txt
'''
[job.a.keep.out]
files = ["log.txt"]
`

// Ready makes what the first check of a program makes: expressions, tables of keys, the language of conditions. A
// program that has to wait for something before its check may do this meanwhile.
func Ready() { All(ordinaryRepository(), nil) }

func ordinaryRepository() *Repository {
	files := map[string]string{"piston/ordinary.toml": ordinary, "src/Makefile": "all:\n\ttrue\n", "depot.lock": "x"}
	r := &Repository{Branches: []string{"main"}, Read: func(name string) ([]byte, error) {
		if text, is := files[name]; is {
			return []byte(text), nil
		}
		return nil, nil
	}}
	for name := range files {
		r.Entries = append(r.Entries, Entry{Path: name})
	}
	return r
}
