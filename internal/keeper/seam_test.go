package keeper

// Awaits says what is due of a group for the long-term store, as a tidying does when it has
// looked.
func (k *Keeper) Awaits(group string, due []string) { k.awaits(group, due) }
