"""The file service of a cluster, and its shares."""
