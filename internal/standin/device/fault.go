package device

// Fault is something that goes wrong on demand.
type Fault struct {
	Kind string `json:"kind"`
	// After is how many bytes the computer sends before it happens, counted from
	// when the fault was ordered; of refusals and of drop-next, how many commands.
	After int64 `json:"after"`
	// For is how long a stall takes, or how often a refusal is given.
	For int64 `json:"for"`
}

// FaultKind is something that can go wrong, and what it is.
type FaultKind struct {
	Name, Means string
	Cable       bool // it needs a stand-in on a cable
}

// Faults are the kinds there are.
var Faults = []FaultKind{
	{Name: "drop", Means: "the cable is pulled after so many bytes"},
	{Name: "drop-next", Means: "the cable is pulled at the next command or service"},
	{Name: "battery", Means: "the phone goes off after so many bytes"},
	{Name: "stall", Means: "nothing is taken for so many seconds, after so many bytes"},
	{Name: "refuse", Means: "the next commands or services are refused"},
	{Name: "lie-size", Means: "sizes of partitions are told twice as large"},
	{Name: "full", Means: "the storages and the partitions take nothing any more"},
	{Name: "fail-at-end", Means: "an install says that it failed, after all was written"},
	{Name: "file-short", Means: "the next files that are read end after six bytes"},
	{Name: "file-refused", Means: "the next files that are read are refused"},
	{Name: "listed-twice", Means: "the first file of each folder is listed as a folder too"},
	{Name: "elsewhere", Means: "it is pulled after so many bytes, and comes back in another socket",
		Cable: true},
	{Name: "halt", Means: "the endpoints halt after so many bytes", Cable: true},
	{Name: "short-answer", Means: "the next answers lack their second half", Cable: true},
	{Name: "garbage", Means: "the next answers are something else", Cable: true},
	{Name: "slow-link", Means: "it comes back at 12 Mbit/s", Cable: true},
	{Name: "held", Means: "another program takes its interface", Cable: true},
	{Name: "replug", Means: "the next mode shows itself only when the cable was pulled and put back",
		Cable: true},
	{Name: "line-loses", Means: "of a loader: a byte of the next messages is lost"},
	{Name: "line-doubles", Means: "of a loader: a byte of the next messages comes twice"},
	{Name: "line-garbles", Means: "of a loader: a byte of the next messages is another"},
	{Name: "line-silent", Means: "of a loader: the next messages do not come through"},
	{Name: "clear", Means: "nothing more goes wrong"},
}

// FaultNames are their names.
func FaultNames() (names []string) {
	for _, k := range Faults {
		names = append(names, k.Name)
	}
	return names
}

// Faulty reports whether something of this kind goes wrong now. Refusals run out.
func (p *Phone) Faulty(kind string) bool {
	p.FaultMu.Lock()
	defer p.FaultMu.Unlock()
	if p.Fault == nil || p.Fault.Kind != kind {
		return false
	}
	if (kind == "refuse" || kind == "drop-next") && p.Fault.After > 0 {
		p.Fault.After-- // it is for a later one
		return false
	}
	switch kind {
	case "refuse", "drop-next", "fail-at-end", "short-answer", "garbage", "replug", "line-loses",
		"line-doubles", "line-garbles", "line-silent", "file-short", "file-refused":
		if p.Fault.For--; p.Fault.For <= 0 {
			p.Fault = nil
		}
	}
	p.Options.Log("fault: " + kind)
	return true
}

// Flat is a battery that gives out.
func (p *Phone) Flat() {
	p.Mu.Lock()
	p.State.Percent = 1
	p.Mu.Unlock()
	p.Move("off", 0)
}
