"""Clients of outside systems. Each is a small typed interface and one real client; library errors become ours
here.
"""
