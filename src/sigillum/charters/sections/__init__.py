"""One facet a module: the model of its section, and its way to core values."""
