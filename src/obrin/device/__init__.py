"""What a device is: protocol engines, tables, filters, translation and hosts put together.

As pure as `wire`: packets and time come in, packets and events go out.
"""
