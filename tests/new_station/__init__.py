"""A made-up station put into the house, in a process of its own: see ``test_new_station``."""
