package act

import (
	"maps"
	"slices"
	"time"
)

// Step names a step of a visit.
type Step string

// The steps. Precheck and Prove only look; to the others acts belong.
const (
	PrecheckStep Step = "precheck"
	StageStep    Step = "stage"
	DrainStep    Step = "drain"
	CloseStep    Step = "close"
	BackupStep   Step = "backup"
	ChangeStep   Step = "change"
	RestartStep  Step = "restart"
	ProveStep    Step = "prove"
	ReopenStep   Step = "reopen"
	ReturnStep   Step = "return"
	HookStep     Step = "hook" // wherever programs of a site's own run
)

// Steps lists them in their order within a visit.
var Steps = []Step{PrecheckStep, StageStep, DrainStep, CloseStep, BackupStep, ChangeStep, RestartStep, ProveStep,
	ReopenStep, ReturnStep, HookStep}

// Looking returns how long a step takes that only looks, where the estate has no history of it: in the middle case and
// at worst.
func (s Step) Looking() (middle, worst time.Duration) {
	if s == ProveStep {
		return 40 * time.Second, 3 * time.Minute
	}
	return 10 * time.Second, 30 * time.Second
}

func sorted(m map[Name]Kind) []Name { return slices.Sorted(maps.Keys(m)) }
