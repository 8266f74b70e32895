"""The job itself: measuring, judging, treating, planning, certifying voice. No web, no database, no interface."""
