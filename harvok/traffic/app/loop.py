"""What the epoll loops of users and services have in common. Edge-triggered."""

import select

EVENTS_A_LOOK = 64
"""Few, so that timers are never far behind: each takes some twenty microseconds."""
SWEEPS_A_SECOND = 20
"""How often connections are looked at, for those that take too long."""
TAKEN_BYTES = 1 << 22
"""How much of a body one call takes."""
EVENTS = select.EPOLLIN | select.EPOLLOUT | select.EPOLLRDHUP | select.EPOLLET
HUNG_UP = select.EPOLLERR | select.EPOLLHUP
