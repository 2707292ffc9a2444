"""Whether carried-out changes kept what they promised."""
