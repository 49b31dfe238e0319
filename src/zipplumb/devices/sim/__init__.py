"""A stand-in: an arm with a hand that moves it over a part that is not quite its drawing."""
