package wire

import "time"

// HandbackPreview is what taking an export back would do.
type HandbackPreview struct {
	Machine string       `json:"machine" doc:"the appliance that takes it back"`
	Taken   time.Time    `json:"taken"`
	Product string       `json:"product"`
	Release string       `json:"release"`
	Build   string       `json:"build"`
	Node    string       `json:"node" doc:"which node of the appliance wrote it"`
	By      string       `json:"by" enum:"hand,schedule" doc:"whether a person asked for it"`
	Bytes   int64        `json:"bytes" doc:"of the export's file"`
	Parts   []ExportPart `json:"parts"`
	LeftOut []string     `json:"left_out" doc:"parts that the export does not have"`
	Fresh   bool         `json:"fresh" doc:"the appliance has nothing of its own"`
	Notices []string     `json:"notices"`
}

// ExportPart is a part of an export. Bytes are of its content.
type ExportPart struct {
	Name      string `json:"name"`
	About     string `json:"about"`
	Mandatory bool   `json:"mandatory"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256"`
}

// HandbackBody asks for an export to be taken back.
type HandbackBody struct {
	Machine string `json:"machine,omitempty" doc:"by which appliance; by default the one of which the image is"`
	Confirm string `json:"confirm,omitempty" doc:"its name, unless it is fresh: all that it has is replaced"`
}
