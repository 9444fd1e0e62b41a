package client

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"syscall"
)

// reason says in words why there was no answer, and what to try.
func reason(err error) string {
	var name *net.DNSError
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var certificate x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch text := err.Error(); {
	case errors.As(err, &name):
		return "there is no address for " + name.Name + "; check how it is written"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there; check that the service runs, and the port"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to that address; check the network"
	case errors.As(err, &authority):
		return "its certificate is from an authority that this machine does not trust; add the authority's " +
			"certificate to those of the machine, or name it in $SSL_CERT_FILE"
	case errors.As(err, &host):
		return "its certificate is for other names; use one of them as the address"
	case errors.As(err, &certificate):
		return "its certificate is not valid now; check the clock, and the certificate"
	case errors.As(err, &record), strings.Contains(text, "server gave HTTP response to HTTPS client"):
		return "it speaks HTTP without TLS; use http:// only for an address of this machine"
	case strings.Contains(text, "malformed HTTP"):
		return "what answers there does not speak HTTP; check the port"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded), isTimeout(err):
		return "it took too long; check the network, and a firewall between"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET),
		errors.Is(err, syscall.EPIPE):
		return "the connection was closed; try again"
	case errors.Is(err, context.Canceled):
		return "interrupted"
	case strings.Contains(text, "unsupported protocol scheme"), strings.Contains(text, "no Host in request URL"):
		return "that is not an address of a service, such as https://hosting.ternisland.example"
	}
	return "no connection could be made; check the address and the network"
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.As(err, &timeout) && timeout.Timeout()
}
