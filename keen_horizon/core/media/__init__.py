"""Reading and writing files: checks, probing, decoding, encoding, sound, proxies."""
