"""What is open and what is looked at: the document, its surveys, its plans, and the session that brings them together."""
