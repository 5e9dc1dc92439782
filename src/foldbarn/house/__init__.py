"""Running Fold Barn on one machine: the database server, the processes, the demo's data, the developer's
commands.
"""
