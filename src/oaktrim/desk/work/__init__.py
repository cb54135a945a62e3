"""Work beside the window: progress, cancel, and results back on the interface's thread."""
