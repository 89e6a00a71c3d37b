"""The files beside a sequence: shared files, limit tables, value files, Python functions, folders of measurements."""
