"""Controllers: managers of overlays and firewalls that are asked over REST, and what they tell of."""
