"""Gates: accept or reject pictures by a rule that is fitted to labelled ones."""
