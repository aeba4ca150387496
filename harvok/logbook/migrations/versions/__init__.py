"""The steps, oldest first by `down_revision`. A step stays as it is once it was released."""
