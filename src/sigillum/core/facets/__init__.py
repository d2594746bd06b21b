"""One facet a module: what it wants, which facts it asks for, how it compares, and the words for it; listed in the registry."""
