"""From a glTF document to a Model: what is broken is left out and said, the rest stands."""
