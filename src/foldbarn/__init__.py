"""Fold Barn: a control plane for software-defined storage on server-local disks."""
