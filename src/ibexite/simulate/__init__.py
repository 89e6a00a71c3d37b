"""Simulated instruments and products: servers on real sockets, with one physical model behind them."""
