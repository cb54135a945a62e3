"""The window: shows core's answers, and turns gestures into core's edits."""
