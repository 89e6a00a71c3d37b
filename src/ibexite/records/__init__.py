"""Records: the journal of a run, the store of all runs, and looking things up in it."""
