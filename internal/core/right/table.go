package right

import (
	"fmt"
	"slices"
	"strings"

	"keenlodge/internal/core/suggest"
)

// Subject is what an operation is about, which must be within what a narrowed role reaches.
type Subject string

const (
	// Caller is whoever calls: his own name, sessions and rights.
	Caller Subject = "caller"
	// List is a list or a sum: it has what the caller may see.
	List Subject = "list"
	// Lodge is the lodge as a whole: only a role that is not narrowed will do.
	Lodge Subject = "lodge"
	// The others are one thing, which the operation's path names.
	OneMachine Subject = "machine"
	OnePolicy  Subject = "policy"
	OneImage   Subject = "image"
	OneRun     Subject = "run"
	OneStore   Subject = "store"
	OneSource  Subject = "hypervisor"
)

// Operation is what somebody does: one of the interface, by its ID in the OpenAPI document, or a bolder form of one.
type Operation string

// Operations that no path of the interface has: bolder forms of others, which need more.
const (
	ReplaceMachine Operation = "replace-machine"
	WriteToMachine Operation = "write-to-machine"
	ProbeElsewhere Operation = "probe-elsewhere"
	RepairStore    Operation = "repair-store"
	EndOthers      Operation = "end-others-sessions"
)

// Entry is a line of the table.
type Entry struct {
	Operation Operation
	On        Subject
	Roles     []Role
	// Whole says that its subject must be wholly within; otherwise a part of it will do.
	Whole bool
	// Of is the operation of which this is a bolder form, Says what it is; both are empty for operations of the interface.
	Of   Operation
	Says string
}

// The roles that may do something: each line names those beside the administrator, who may do everything.
var (
	everyone      = []Role{Viewer, Operator, Restorer, Administrator}
	operators     = []Role{Operator, Administrator}
	whoRestores   = []Role{Operator, Restorer, Administrator}
	filesBack     = []Role{Restorer, Administrator}
	administrator = []Role{Administrator}
)

func look(id Operation, on Subject) Entry { return Entry{Operation: id, On: on, Roles: everyone} }

// lookAtAll is a look at what nothing of can be left out.
func lookAtAll(id Operation, on Subject) Entry {
	return Entry{Operation: id, On: on, Roles: everyone, Whole: true}
}

func change(id Operation, on Subject, roles []Role) Entry {
	return Entry{Operation: id, On: on, Roles: roles, Whole: true}
}

func bolder(id, of Operation, on Subject, says string) Entry {
	return Entry{Operation: id, On: on, Roles: administrator, Whole: true, Of: of, Says: says}
}

// Table is every operation and who may do it. Those that need no sign-in (sign-in, sign-out) are not in it.
var Table = []Entry{
	look("get-me", Caller),
	look("list-sessions", Caller),
	look("get-authority", Caller),
	change("end-session", Caller, everyone),
	change("end-sessions", Caller, everyone),
	bolder(EndOthers, "end-session", Lodge, "End sessions of others, and list them"),

	look("get-summary", List),
	look("events", List),
	look("list-machines", List),
	look("list-lanes", List),
	look("list-hypervisors", List),
	look("list-stores", List),
	look("list-policies", List),
	look("list-runs", List),
	look("list-images", List),
	look("get-forecast", List),
	look("get-site", List),
	lookAtAll("list-around", OneSource),
	look("show-store", OneStore),
	lookAtAll("plan-sweep", OneStore),
	lookAtAll("list-store-keys", OneStore),
	look("preview-rotation", OnePolicy),
	look("get-run", OneRun),
	look("list-tasks", OneRun),
	look("get-run-log", OneRun),
	look("get-image", OneImage),
	look("list-unread", OneRun),
	look("list-parts", OneMachine),
	change("list-file-systems", OneImage, whoRestores),
	change("unlock-image", OneImage, whoRestores),
	change("list-files-of-image", OneImage, whoRestores),
	change("find-files", OneMachine, whoRestores),
	change("list-image-files", OneImage, whoRestores),
	change("read-image-file", OneImage, whoRestores),
	change("archive-image-files", OneImage, whoRestores),
	change("serve-image-disk", OneImage, whoRestores),
	look("get-image-hardware", OneImage),
	look("list-trail", Lodge),
	look("verify-trail", Lodge),

	change("run-policy", OnePolicy, operators),
	change("rehearse-policy", OnePolicy, operators),
	change("pause-policy", OnePolicy, operators),
	change("resume-policy", OnePolicy, operators),
	change("gather-policy", OnePolicy, administrator),
	change("cancel-run", OneRun, operators),
	change("prove-image", OneImage, operators),
	change("read-exhibit", OneImage, whoRestores),
	look("list-promises", List),
	change("prove-key", OneStore, administrator),
	look("list-groups", Lodge),
	look("list-copies", List),
	look("list-snapshots", List),
	change("take-snapshot", OneMachine, operators),
	change("drop-snapshot", OneMachine, operators),
	change("pin-snapshot", OneMachine, operators),
	change("unpin-snapshot", OneMachine, operators),
	change("preview-back", OneMachine, whoRestores),
	change("go-back", OneMachine, administrator),
	look("list-copy-images", Lodge),
	change("run-copy", Lodge, operators),
	change("prove-group", Lodge, operators),
	change("start-drill", Lodge, operators),
	look("list-drills", Lodge),
	look("get-drill", Lodge),
	look("read-drill-page", Lodge),
	change("look-at-image", OneImage, operators),
	change("pin-image", OneImage, operators),
	change("unpin-image", OneImage, operators),
	change("undrop-image", OneImage, whoRestores),
	change("restore-image", OneImage, whoRestores),
	change("preview-restore", OneImage, whoRestores),
	bolder(ReplaceMachine, "restore-image", OneImage, "Restore an image over a machine of the same name"),
	change("preview-files", OneImage, filesBack),
	change("restore-files", OneImage, filesBack),
	change("preview-handback", OneImage, filesBack),
	change("hand-back", OneImage, filesBack),
	{Operation: WriteToMachine, On: OneMachine, Roles: filesBack, Whole: true, Of: "restore-files", Says: "Put files of an image onto this machine, or look at what that would change there"},
	change("undo-restore", OneRun, filesBack),
	change("find-machines", Lodge, operators),
	change("probe-hypervisor", OneSource, operators),
	change("probe-store", OneStore, operators),
	change("import-image", OneStore, operators),
	bolder(ProbeElsewhere, "probe-store", Lodge, "Try a store or a hypervisor that is not the site's: the lodge connects to whatever is named"),
	change("check-store", OneStore, operators),
	change("release-store", OneStore, operators),
	bolder(RepairStore, "check-store", OneStore, "Repair a store"),
	change("try-webhook", Lodge, operators),

	change("confirm-rotation", OnePolicy, administrator),
	change("fold-image", OneImage, administrator),
	change("retire-machine", OneMachine, administrator),
	change("unretire-machine", OneMachine, administrator),
	change("continue-machine", OneMachine, administrator),
	change("sweep-store", OneStore, administrator),
	change("add-store", Lodge, administrator),
	change("move-store", Lodge, administrator),
	change("adopt-store", Lodge, administrator),
	change("set-store-access", Lodge, administrator),
	change("unlock-store", Lodge, administrator),
	change("add-store-key", Lodge, administrator),
	change("remove-store-key", Lodge, administrator),
	change("add-hypervisor", Lodge, administrator),
	change("apply-site", Lodge, administrator),
	change("new-webhook-key", Lodge, administrator),
	change("new-calendar", Lodge, administrator),
	change("renew-authority", Lodge, administrator),
	change("take-spare", Lodge, administrator),
	change("reseal-vault", Lodge, administrator),
	look("list-agents", Lodge),
	change("admit-agent", Lodge, administrator),
	change("revoke-agent", Lodge, administrator),
	change("new-token", Lodge, administrator),
	change("renew-token", Lodge, administrator),
	change("revoke-token", Lodge, administrator),
	{Operation: "list-tokens", On: Lodge, Roles: administrator},
}

// entries is the table by its operations.
var entries = func() map[Operation]Entry {
	out := map[Operation]Entry{}
	for _, e := range Table {
		out[e.Operation] = e
	}
	return out
}()

// Operations lists every operation of the table.
var Operations = func() []Operation {
	out := make([]Operation, len(Table))
	for i, e := range Table {
		out[i] = e.Operation
	}
	return out
}()

// Of is an operation's line of the table, if it has one.
func Of(id Operation) (Entry, bool) {
	e, ok := entries[id]
	return e, ok
}

// Holding are those of some grants whose roles may do an operation.
func Holding(grants []Grant, id Operation) (out []Grant) {
	for _, g := range grants {
		if slices.Contains(entries[id].Roles, g.Role) {
			out = append(out, g)
		}
	}
	return out
}

// May lists the operations that the roles of some grants may do, to something at least.
func May(grants []Grant) (out []Operation) {
	for _, e := range Table {
		if Refusal(grants, e.Operation) == "" {
			out = append(out, e.Operation)
		}
	}
	return out
}

// Needs says in words which roles may do an operation.
func Needs(id Operation) string {
	roles := entries[id].Roles
	if len(roles) == 1 {
		return "the role " + string(roles[0])
	}
	return "one of the roles " + suggest.List(roles)
}

// Refusal says why grants are not enough for an operation, or "" where they may be.
func Refusal(grants []Grant, id Operation) string {
	held := Holding(grants, id)
	switch {
	case len(held) == 0:
		return fmt.Sprintf("%s needs %s; this token has: %s", id, Needs(id), orNone(grants))
	case entries[id].On == Lodge && !slices.ContainsFunc(held, func(g Grant) bool { return !g.Narrowed() }):
		return fmt.Sprintf("%s is about the lodge as a whole, and needs a role that is not narrowed; this token has: %s", id, orNone(grants))
	}
	return ""
}

func orNone(grants []Grant) string {
	if len(grants) == 0 {
		return "no role"
	}
	return strings.Join(Phrases(grants), " · ")
}
