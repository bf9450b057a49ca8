"""A practice gateway and its site as processes: RESTCONF, SNMP, packets."""
