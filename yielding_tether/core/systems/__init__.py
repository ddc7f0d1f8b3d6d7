"""The systems that drive parts: one file each, with its `solve` and its `fit`."""
