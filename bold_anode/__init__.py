"""Bold Anode: the web application. No formula of the trade lives here; see thermionic."""
