"""The demo productions: an almanac of a tidal mill, a museum guide, a harbour bulletin."""
