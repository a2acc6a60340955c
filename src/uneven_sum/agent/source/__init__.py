"""The user's source: syntax trees and statements, code without probes, and the sites of the probes."""
