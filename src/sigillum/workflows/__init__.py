"""One module a use case. They tie the others together, return results and report progress to a callback."""
