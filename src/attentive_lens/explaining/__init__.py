"""Why an answer: saliency maps, feature maps, filters, and how far a map can be trusted."""
