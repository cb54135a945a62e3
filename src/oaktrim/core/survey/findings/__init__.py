"""What the survey noticed: a small module for each matter, listed in `rules.py`."""
