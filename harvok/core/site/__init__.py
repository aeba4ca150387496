"""Sites: which tests are due when, and which of them may run beside each other. Pure: time is passed in."""
