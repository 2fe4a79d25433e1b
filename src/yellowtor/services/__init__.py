"""Services: descriptions become requests, replies come back masked. Knows HTTP."""
