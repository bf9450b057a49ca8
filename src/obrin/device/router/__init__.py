"""A router: IKE, ESP, BGP, filters and forwarding in one device; its table and its sessions."""
