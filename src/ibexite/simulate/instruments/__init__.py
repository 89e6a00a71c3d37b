"""Simulated instruments, one a file."""
