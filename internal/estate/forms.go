package estate

import "slices"

// The kinds of documents, in the order in which they are applied.
const (
	kindLink    = "link"
	kindLeftOut = "leftOut"
	kindTier    = "tier"
	kindGroup   = "group"
	kindBerth   = "berth"
)

// Kinds lists the kinds of documents, in the order in which they are applied.
func Kinds() []string { return []string{kindLink, kindLeftOut, kindTier, kindGroup, kindBerth} }

func order(kind string) int { return slices.Index(Kinds(), kind) }

// blank is the empty form of a kind; nil of one that is not known.
func blank(kind string) any {
	switch kind {
	case kindLink:
		return &linkDoc{}
	case kindLeftOut:
		return &leftOutDoc{}
	case kindTier:
		return &tierDoc{}
	case kindGroup:
		return &groupDoc{}
	case kindBerth:
		return &berthDoc{}
	}
	return nil
}

// promiseDoc is what a promise says; lengths of time are written as people do.
type promiseDoc struct {
	RPO         string `json:"rpo,omitempty" jsonschema:"description=RPO target such as 15 min"`
	Cadence     string `json:"cadence,omitempty" jsonschema:"description=every 5 min; back to back; by hand; or times such as weekdays at 02:00"`
	Quiet       string `json:"quiet,omitempty" jsonschema:"description=When no cycle starts by itself"`
	Zone        string `json:"zone,omitempty" jsonschema:"description=Time zone such as Europe/Oslo"`
	Keep        string `json:"keep,omitempty" jsonschema:"description=Keep ladder such as all 6h\\, 1h 2d\\, 1d 14d"`
	LeastPoints int    `json:"leastPoints,omitempty" jsonschema:"description=How many of the newest points always stay"`
	RTO         string `json:"rto,omitempty" jsonschema:"description=RTO target such as 1 h"`
	DrillEvery  string `json:"drillEvery,omitempty" jsonschema:"description=How often a recovery is to be tried"`
	Rest        string `json:"rest,omitempty" jsonschema:"enum=off,enum=try,enum=required,description=How file systems are brought to rest"`
	Priority    string `json:"priority,omitempty" jsonschema:"enum=high,enum=normal,enum=low"`
	Lock        string `json:"lock,omitempty" jsonschema:"description=How long nobody may delete a point after it was sealed"`
}

type tierDoc struct {
	Kind string `json:"kind" jsonschema:"const=tier"`
	Name string `json:"name"`
	promiseDoc
}

type groupDoc struct {
	Kind string `json:"kind" jsonschema:"const=group"`
	Name string `json:"name"`
	// To is the recovery site.
	To   string   `json:"to" jsonschema:"description=The paired site that keeps the points"`
	Tags []string `json:"tags,omitempty"`
	// Machines are those that are chosen by hand; a rule brings in others.
	Machines     []string     `json:"machines,omitempty" jsonschema:"description=Machines that are chosen by hand"`
	Rule         *ruleDoc     `json:"rule,omitempty"`
	WithoutDisks []string     `json:"withoutDisks,omitempty" jsonschema:"description=MACHINE:DISK that is not copied"`
	WithoutBoot  bool         `json:"withoutBootDisks,omitempty" jsonschema:"description=A disk that a machine starts from may be among them"`
	NewDisks     string       `json:"newDisks,omitempty" jsonschema:"enum=copy,enum=flag"`
	Quiesce      []quiesceDoc `json:"quiesce,omitempty"`
	// Tier is the one that it follows; what is said beside it differs, for the reason.
	Tier   string `json:"tier,omitempty" jsonschema:"description=The tier that it follows"`
	Reason string `json:"reason,omitempty" jsonschema:"description=Why what is said here differs from the tier"`
	promiseDoc
	Apart        bool   `json:"apart,omitempty" jsonschema:"description=Machines are captured one by one"`
	CompareEvery string `json:"compareEvery,omitempty" jsonschema:"description=After what time a cycle reads all of the disks"`
	HomePoints   bool   `json:"homePoints,omitempty" jsonschema:"description=Points are kept at home as well"`
	HomeKeep     string `json:"homeKeep,omitempty" jsonschema:"description=Their ladder\\, if it is another"`
}

type ruleDoc struct {
	Match string `json:"match" jsonschema:"description=Such as folder /harbour/vessels and not tag test"`
	Order int    `json:"order,omitempty" jsonschema:"description=Of several rules that match the one with the lowest counts"`
}

type quiesceDoc struct {
	Machine  string `json:"machine"`
	Mode     string `json:"mode" jsonschema:"enum=off,enum=try,enum=required"`
	Limit    string `json:"limit,omitempty"`
	EveryNth int    `json:"everyNth,omitempty"`
	Before   string `json:"before,omitempty"`
	After    string `json:"after,omitempty"`
}

type linkDoc struct {
	Kind        string   `json:"kind" jsonschema:"const=link"`
	Name        string   `json:"name" jsonschema:"description=The paired site"`
	Limit       string   `json:"limit,omitempty" jsonschema:"description=Most that is sent a second such as 40 MiB; none"`
	Windows     []string `json:"windows,omitempty" jsonschema:"description=Times of the week with limits of their own such as mon-fri 08:00-18:00 5 MiB"`
	Compression string   `json:"compression,omitempty" jsonschema:"enum=s2,enum=zstd,enum=off"`
	TakeGroups  int      `json:"takeGroups,omitempty"`
	TakeRoom    string   `json:"takeRoom,omitempty"`
}

type leftOutDoc struct {
	Kind   string `json:"kind" jsonschema:"const=leftOut"`
	Name   string `json:"name" jsonschema:"description=A machine that is left out on purpose"`
	Reason string `json:"reason"`
}

// berthDoc says how machines arrive: of a group, or as the default of a link or platform.
type berthDoc struct {
	Kind string `json:"kind" jsonschema:"const=berth"`
	Of   string `json:"of" jsonschema:"enum=group,enum=link,enum=platform"`
	Name string `json:"name" jsonschema:"description=Of the group\\, the paired site or the platform"`
	berthSettings
	Machines []berthMachine `json:"machines,omitempty"`
	Waves    []berthWave    `json:"waves,omitempty"`
	Gateways bool           `json:"severalGateways,omitempty"`
}

type berthSettings struct {
	Platform     string         `json:"platform,omitempty"`
	Pool         string         `json:"pool,omitempty"`
	Datastore    string         `json:"datastore,omitempty"`
	Folder       string         `json:"folder,omitempty"`
	NamePattern  string         `json:"namePattern,omitempty" jsonschema:"description=Such as {name}-em"`
	DrillName    string         `json:"drillNamePattern,omitempty"`
	CPUs         int            `json:"cpus,omitempty"`
	MemoryBytes  int64          `json:"memoryBytes,omitempty"`
	DrillPercent int            `json:"drillPercent,omitempty"`
	Networks     []berthNetwork `json:"networks,omitempty"`
	Rules        []string       `json:"rules,omitempty" jsonschema:"description=Address rules such as 10.40.8.0/24 -> 10.60.4.0/24"`
	DNS          []string       `json:"dns,omitempty"`
	Suffix       string         `json:"suffix,omitempty"`
	Address      string         `json:"address,omitempty" jsonschema:"enum=rule,enum=keep,enum=dhcp"`
	Way          string         `json:"way,omitempty" jsonschema:"enum=leave,enum=dhcp,enum=agent,enum=seed"`
	Format       string         `json:"format,omitempty" jsonschema:"description=Of the disks once they are local"`
	Before       string         `json:"before,omitempty" jsonschema:"description=Name of a command of the recovery site's host\\, which runs before a machine starts"`
	After        string         `json:"after,omitempty"`
}

type berthNetwork struct {
	Home  string `json:"home"`
	Live  string `json:"live,omitempty"`
	Drill string `json:"drill,omitempty"`
}

type berthMachine struct {
	Machine string `json:"machine"`
	berthSettings
	Wave  int         `json:"wave,omitempty"`
	Cards []berthCard `json:"cards,omitempty"`
}

type berthCard struct {
	Card         string `json:"card"`
	Live         string `json:"live,omitempty"`
	Drill        string `json:"drill,omitempty"`
	Address      string `json:"address,omitempty"`
	Gateway      string `json:"gateway,omitempty"`
	DrillAddress string `json:"drillAddress,omitempty"`
	DrillGateway string `json:"drillGateway,omitempty"`
}

type berthWave struct {
	Number       int    `json:"number"`
	WaitSeconds  int64  `json:"waitSeconds,omitempty"`
	Check        string `json:"check,omitempty"`
	LimitSeconds int64  `json:"limitSeconds,omitempty"`
}
