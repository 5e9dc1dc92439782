"""PostgreSQL: tables, migrations, and the only code that knows SQL. Rows become core values here, and nowhere
else.
"""
