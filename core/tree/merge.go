package tree

// Change is how one entry differs from those of an older tree.
type Change struct {
	Entry
	Gone  bool // it is not there any more, nor is what was in it
	Alone bool // of a folder: nothing that was in the older one is in it
}

// Merge is a tree as changes leave it. They are in the order of Before; each folder on the way to one is the older
// tree's or a change itself.
func Merge(older *Tree, changes []Change) *Tree {
	out := &Tree{Roots: older.Roots, Entries: make([]Entry, 0, len(older.Entries)+len(changes))}
	kept := map[string]bool{} // files of the older tree that are still there
	hidden := ""              // what is in it is gone
	i := 0
	until := func(path string) { // takes older entries that come before a path
		for ; i < len(older.Entries) && (path == "" || Before(older.Entries[i].Path, path)); i++ {
			e := older.Entries[i]
			if hidden != "" && Below(e.Path, hidden) {
				continue
			}
			if e.Kind == File {
				kept[e.Path] = true
			}
			out.Entries = append(out.Entries, e)
		}
	}
	for _, c := range changes {
		until(c.Path)
		if i < len(older.Entries) && older.Entries[i].Path == c.Path {
			i++
		}
		if (hidden == "" || !Below(c.Path, hidden)) && (c.Gone || c.Alone || c.Kind != Folder) {
			hidden = c.Path
		}
		if !c.Gone {
			out.Entries = append(out.Entries, c.Entry)
		}
	}
	until("")
	out.rename(older, changes, kept)
	return out
}

// rename gives files of the older tree that have lost their first name, and not the others, the next one.
func (t *Tree) rename(older *Tree, changes []Change, kept map[string]bool) {
	ofChanges := map[string]bool{}
	for _, c := range changes {
		if c.Kind == Twin {
			ofChanges[c.Path] = true
		}
	}
	lost := map[string]string{} // the first name, and what it is now
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != Twin || ofChanges[e.Path] || kept[e.Target] {
			continue
		}
		if now, has := lost[e.Target]; has {
			e.Target = now
			continue
		}
		lost[e.Target] = e.Path
		file := older.at(e.Target)
		e.Kind, e.Mode, e.Time, e.Pieces, e.Target = File, file.Mode, file.Time, file.Pieces, ""
	}
}

// at finds an entry that is there.
func (t *Tree) at(path string) *Entry {
	low, high := 0, len(t.Entries)-1
	for low < high {
		mid := (low + high) / 2
		if Before(t.Entries[mid].Path, path) {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return &t.Entries[low]
}
