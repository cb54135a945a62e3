"""BC1, BC1 with a bit of alpha, and BC3."""
