"""The practice cloud: resources with an HTTP API in front, a data plane of real packets behind."""
