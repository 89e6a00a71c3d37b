"""Reports: made from stored runs only."""
