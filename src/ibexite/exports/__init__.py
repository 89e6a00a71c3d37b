"""Files for other programs, made of stored runs alone."""
