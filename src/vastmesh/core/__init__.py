"""The job itself: networks, equations and studies. Knows no web, no database, no file format."""
