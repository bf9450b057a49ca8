"""Key exchange, key derivation, signatures and credentials of IKE."""
