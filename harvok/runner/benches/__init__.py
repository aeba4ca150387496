"""Where tests run, one file for each need of a rig: opened for all repeats of a request, described anew for each."""
