"""The simulated service, with a made-up gazetteer."""
