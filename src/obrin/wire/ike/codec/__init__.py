"""IKE messages as bytes: header, payloads, fragments, registry numbers."""
