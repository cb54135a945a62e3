"""View frames: a thing baked from many directions, of which the three nearest are blended, corrected by their depth."""
