"""The command line: parse, call core, print."""
