"""The benches, a package each, in working order."""
