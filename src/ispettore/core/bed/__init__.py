"""Sound under the voice: what plays when, joined, at which rate and how loud; and how far the voice lowers it."""
