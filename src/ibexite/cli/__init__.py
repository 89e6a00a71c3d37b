"""The command line: thin commands over the core, and the views of the terminal. Nothing here computes."""
