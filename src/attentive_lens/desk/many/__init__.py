"""Many runs at once: sweeps, folds, series, a cluster."""
