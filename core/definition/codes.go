package definition

// Code is a kind of finding of the format.
type Code struct{ Name, Means string }

// Codes lists the kinds of findings of the format, for the documents.
var Codes = []Code{
	{"bad-toml", "The text is not TOML 1.0, or a value is of the wrong type."},
	{"not-utf8", "The file is not UTF-8 text."},
	{"file-too-large", "A pipeline file has more bytes than one may have."},
	{"unknown-key", "A key that the format, or a part, does not have."},
	{"missing-key", "Something that must be said is not."},
	{"bad-value", "A value is not one of those allowed."},
	{"bad-name", "A name has characters it may not have."},
	{"bad-path", "A path is empty, absolute, or leaves the workspace."},
	{"bad-glob", "A glob is malformed."},
	{"bad-label", "A machine's label has characters it may not have."},
	{"bad-duration", "A span of time without a unit, or out of range."},
	{"bad-pattern", "A pattern is no regular expression."},
	{"bad-version", "The wanted versions of a tool cannot be read."},
	{"bad-schedule", "A schedule cannot be read, is never due, or is due too often."},
	{"bad-zone", "A time zone that there is not."},
	{"bad-condition", "A condition does not hold together, or asks for what there is not."},
	{"no-jobs", "A pipeline without jobs."},
	{"no-steps", "A job or part without steps."},
	{"no-part", "A part that has no file."},
	{"no-variants", "Exceptions leave no variant of a job."},
	{"unknown-job", "A job waits for, or takes from, a job that there is not."},
	{"unknown-step", "A retry names a step that there is not."},
	{"unknown-hand", "A job takes what no job hands on."},
	{"unknown-reference", "`${NAME}` stands for nothing."},
	{"not-before", "A job takes files of a job that it does not come after."},
	{"cycle", "Jobs wait for each other."},
	{"part-cycle", "Parts hold each other."},
	{"pipeline-cycle", "A pipeline starts itself."},
	{"required-input", "A trigger starts a pipeline that asks for an input."},
	{"too-many", "More of something than the service takes."},
}
