"""What moves packets. The near and the far half of each kind of traffic stand together, so that what goes over
the wire is seen in one place. Worker processes import only this package, the clock and the plain part of core."""
