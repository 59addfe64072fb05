// Package yarnpost is Yarn Post, a DHCP service for network administrators. Its parts
// are its folders; docs/architecture.md has the map.
package yarnpost
