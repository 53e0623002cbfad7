"""Starting and stopping the product's processes on one machine."""
