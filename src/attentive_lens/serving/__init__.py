"""The face for other programs: a trained model that answers over HTTP."""
