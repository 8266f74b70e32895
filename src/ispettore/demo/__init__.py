"""Made-up recordings: texts, speech, faults of a known size, and the demo productions made from them."""
