"""Instruments: the protocol, the agent that speaks it, and (in ``sim``) a stand-in."""
