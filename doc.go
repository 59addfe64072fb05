// Package yarnpost is Yarn Post, a DHCP service for network administrators. The
// rooms of the house are its folders; docs/architecture.md has the map.
package yarnpost
