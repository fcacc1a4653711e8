"""Talk with a device: dialogues, live sessions, the search for its settings. It may use the ports and the payload."""
