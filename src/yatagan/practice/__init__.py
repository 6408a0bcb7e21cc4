"""Practice nodes on this machine, with faults on demand, and the data of a made-up survey to practise with."""
