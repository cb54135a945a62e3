"""The document: a root folder, targets, patterns and cuts, with its history, read and written as readable JSON."""
