"""The engine: compiles a vetted program and runs it on a bench. Emits events; prints nothing, reads no events."""
