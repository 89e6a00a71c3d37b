"""The sequence language: from text to a vetted program. No files but the source, no instruments, no NumPy."""
