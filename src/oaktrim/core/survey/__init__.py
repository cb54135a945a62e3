"""Reading the tree: what is there, what each texture holds, what it is used as, and what is wrong."""
