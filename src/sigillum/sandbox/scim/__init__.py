"""The SCIM interface: resources, their schemas, and what is checked when one is written."""
