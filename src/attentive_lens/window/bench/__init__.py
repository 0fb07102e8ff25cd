"""The bench: a network as glass plates on a rail, drawn the same way in Network and in Explain."""
