"""Lets `python -m oaktrim` stand for the installed command."""

from oaktrim.cli.main import main

main()
