package intake

import (
	"encoding/binary"
	"io"
	"net/http"
	"strings"

	"oakbarrel/core/otlp"
)

// grpcExport is the path of the method that exports logs.
const grpcExport = "POST /opentelemetry.proto.collector.logs.v1.LogsService/Export"

// The codes of a status of gRPC that are answered.
const (
	grpcOK              = "0"
	grpcInvalid         = "3"
	grpcDenied          = "7"
	grpcTooMuch         = "8"
	grpcUnimplemented   = "12"
	grpcUnavailable     = "14"
	grpcUnauthenticated = "16"
)

// exportGRPC answers one call of the export of logs. The messages of gRPC are HTTP/2 with
// five bytes before each: whether it is packed, and how long it is.
func (e *otlpEndpoint) exportGRPC(w http.ResponseWriter, request *http.Request) {
	media := request.Header.Get("Content-Type")
	if media != "application/grpc" && media != "application/grpc+proto" {
		http.Error(w, "the body has to be application/grpc", http.StatusUnsupportedMediaType)
		return
	}
	w.Header().Set("Content-Type", "application/grpc")
	var head [5]byte
	if _, err := io.ReadFull(request.Body, head[:]); err != nil {
		grpcRefuse(w, grpcInvalid, "the message has no head")
		return
	}
	size := binary.BigEndian.Uint32(head[1:])
	if size > maxExport {
		grpcRefuse(w, grpcTooMuch, "a request has at most 16 MiB, also unpacked")
		return
	}
	coding := ""
	if head[0] == 1 {
		if coding = request.Header.Get("Grpc-Encoding"); coding != "gzip" {
			grpcRefuse(w, grpcUnimplemented, "a message may be packed by gzip alone")
			return
		}
	}
	refused, why, problem := e.take(request, io.LimitReader(request.Body, int64(size)), coding, false)
	if problem != nil {
		grpcRefuse(w, grpcCode(problem.status), problem.why)
		return
	}
	answer := otlp.Response(false, refused, why)
	w.Write(append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(answer))), answer...))
	w.Header().Set(http.TrailerPrefix+"Grpc-Status", grpcOK)
}

// grpcRefuse answers with a status alone.
func grpcRefuse(w http.ResponseWriter, code, why string) {
	w.Header().Set("Grpc-Status", code)
	w.Header().Set("Grpc-Message", grpcText(why))
	w.WriteHeader(http.StatusOK)
}

// grpcText writes a message as it may stand in a header: percent-encoded.
func grpcText(s string) string {
	var b strings.Builder
	for i := range len(s) {
		if c := s[i]; c >= ' ' && c <= '~' && c != '%' {
			b.WriteByte(c)
		} else {
			const hex = "0123456789ABCDEF"
			b.WriteString(string([]byte{'%', hex[c>>4], hex[c&15]}))
		}
	}
	return b.String()
}

// grpcCode returns the code for a status of HTTP.
func grpcCode(status int) string {
	switch status {
	case http.StatusForbidden:
		return grpcDenied
	case http.StatusUnauthorized:
		return grpcUnauthenticated
	case http.StatusRequestEntityTooLarge:
		return grpcTooMuch
	case http.StatusServiceUnavailable:
		return grpcUnavailable
	}
	return grpcInvalid
}
