"""One facet a module: what it wants, which facts it needs, how it compares, and the words for it."""
