package wire

// NBD is what a connection is upgraded to on which a disk of an image is offered.
const NBD = "nbd"

// OpenedDisks are what lies on the disks of an image. Tree says that the machine's own mount table was found, so that its files are one tree.
type OpenedDisks struct {
	FileSystems []FileSystem `json:"file_systems"`
	Tree        bool         `json:"tree" doc:"the machine's mount table was found: its files are one tree, from / on"`
}

// FileSystem is a part of a disk with what lies in it. Sizes are in bytes.
type FileSystem struct {
	Name    string `json:"name" doc:"the disk's, with the number of the partition"`
	Format  string `json:"format"`
	Label   string `json:"label,omitempty"`
	UUID    string `json:"uuid,omitempty"`
	Size    int64  `json:"size"`
	Used    int64  `json:"used"`
	Mounted string `json:"mounted,omitempty" doc:"where the machine has it"`
	Why     string `json:"why,omitempty" doc:"why it is not open"`
}
