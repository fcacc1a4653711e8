"""Make it happen: transmit, port, device, loopback."""
