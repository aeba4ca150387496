"""What this machine is: interfaces, routes, speeds, CPU, clock. Reads the operating system; sends nothing."""
