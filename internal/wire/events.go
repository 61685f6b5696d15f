package wire

// Hello is the first event of a stream: from here on nothing is missed.
type Hello struct {
	Program string `json:"program"`
}

// Changed is what something happened to that comes without its content: ask for it again.
type Changed string

const (
	// RunsChanged are more runs or tasks than are told of one by one.
	RunsChanged   Changed = "runs"
	ImagesChanged Changed = "images"
	SiteChanged   Changed = "site"
)

// Changes lists every kind.
var Changes = []Changed{RunsChanged, ImagesChanged, SiteChanged}

// Event is what changed in a fraction of a second, joined. Runs come without their tasks; a task that changed is in Tasks.
type Event struct {
	Runs    []Run     `json:"runs"`
	Tasks   []Task    `json:"tasks"`
	Changed []Changed `json:"changed"`
}
