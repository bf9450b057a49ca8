"""The exchanges of IKEv2, one module each, and what they share."""
