"""The network: our own layers, gradients and optimisers on NumPy arrays, N×H×W×C."""
