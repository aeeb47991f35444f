"""The Proof desk: galley and docket."""
