"""Protocols without I/O: pure functions and small state machines on bytes and text, shared by client and stand-ins."""
