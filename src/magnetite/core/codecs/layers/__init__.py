"""The stages that codecs are put together from."""
