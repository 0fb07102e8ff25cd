"""Models in the open ONNX format: written with their preprocessing, so that another program feeds raw pixels."""
