"""Asks a device what it is and what it counts (SNMP), tells it what to do (SSH), and stands in for one."""
