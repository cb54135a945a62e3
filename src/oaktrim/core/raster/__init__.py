"""The software renderer: what surfaces look like under a lamp."""
