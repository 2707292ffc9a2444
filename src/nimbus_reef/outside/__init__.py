"""What lies beyond the installation: marketplaces that reports are fetched from and changes are sent to."""
