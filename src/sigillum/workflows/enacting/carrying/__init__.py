"""The executor: carries an outline's steps out by the creation protocol. It takes ports, and knows no workspace."""
