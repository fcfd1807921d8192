"""Forecasts as they were made: an archive in a database, to which every run adds and from which nothing goes."""
