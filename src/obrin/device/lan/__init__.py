"""The network of a site: its gateways, and the hosts behind them."""
