"""Makes Heronmere Landing, the demonstration: a made-up ferry landing, drawn from fixed seeds."""
