"""Programs and Python functions of other people: each in a process of its own, with time limits and bounded output."""
