"""The bench: which instruments play which roles, what signals mean, what may never be exceeded, how to make it safe."""
