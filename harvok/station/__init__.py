"""The far end: the HTTP control service, and the client that near ends use to talk to it."""
