package store

// Page is a part of a list that is ordered by name.
type Page struct {
	After    string // only names after it, by bytes
	Contains string // only names with it, in capitals or not
	Limit    int    // 0: all
}

// args are what paged takes.
func (p Page) args() []any { return []any{p.After, p.Contains, p.Limit} }

// paged is the end of a query for a Page, whose fields are its first three arguments.
func paged(name string) string {
	return ` AND ` + name + ` COLLATE "C" > $1 AND strpos(lower(` + name + `), lower($2)) > 0 ORDER BY ` + name +
		` COLLATE "C" LIMIT nullif($3, 0)`
}
