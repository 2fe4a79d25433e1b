"""What a reply means: kinds, candidates, positions, confidence, outcomes. Pure."""
