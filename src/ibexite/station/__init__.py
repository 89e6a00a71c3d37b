"""A run without a terminal: project, program, stand-ins, tests to run, storing, report; one unit or many."""
