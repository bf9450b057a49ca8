"""A device by its standard data: configuration read, operational state written."""
