"""What consumers are given: orchestrators, classes, grants, and volumes for claims."""
