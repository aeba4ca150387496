"""Application traffic: users at one end, the service that they use at the other, and the processes of both."""
