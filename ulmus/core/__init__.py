"""The thinking of Ulmus: no clock, network, disk, database, thread or web in it."""
