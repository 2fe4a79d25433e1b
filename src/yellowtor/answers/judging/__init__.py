"""From candidates to one outcome with a confidence and its reasons. Pure."""
