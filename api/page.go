package api

// Page asks for a part of a list that is ordered by name.
type Page struct {
	After    string `query:"after" maxLength:"300" doc:"Only what comes after this name; the last of the page before."`
	Contains string `query:"contains" maxLength:"100" doc:"Only what has this in its name, in capitals or not."`
	Limit    int    `query:"limit" minimum:"1" maximum:"500" default:"200"`
}
