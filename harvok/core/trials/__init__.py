"""What procedures ask of a rig, and what a rig answers: one file a kind of traffic. Worker processes import these."""
