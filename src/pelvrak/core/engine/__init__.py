"""The engine that runs steps: it knows nothing of milling."""
