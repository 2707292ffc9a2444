"""The simulated marketplace as a service of its own process: an HTTP interface in front of `nimbus_reef.sim`."""
