package intake

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"oakbarrel/core/event"
)

// windowsLog is the log of events of this machine, by the system's own interface (wevtapi).
type windowsLog struct{}

var (
	wevtapi             = windows.NewLazySystemDLL("wevtapi.dll")
	evtOpenChannelEnum  = wevtapi.NewProc("EvtOpenChannelEnum")
	evtNextChannelPath  = wevtapi.NewProc("EvtNextChannelPath")
	evtOpenChannel      = wevtapi.NewProc("EvtOpenChannelConfig")
	evtChannelProperty  = wevtapi.NewProc("EvtGetChannelConfigProperty")
	evtQuery            = wevtapi.NewProc("EvtQuery")
	evtSubscribe        = wevtapi.NewProc("EvtSubscribe")
	evtNext             = wevtapi.NewProc("EvtNext")
	evtRender           = wevtapi.NewProc("EvtRender")
	evtCreateBookmark   = wevtapi.NewProc("EvtCreateBookmark")
	evtUpdateBookmark   = wevtapi.NewProc("EvtUpdateBookmark")
	evtOpenPublisher    = wevtapi.NewProc("EvtOpenPublisherMetadata")
	evtFormatMessage    = wevtapi.NewProc("EvtFormatMessage")
	evtClose            = wevtapi.NewProc("EvtClose")
	errUnresolvedValue  = windows.Errno(15029) // the message is there, with a place that has no value
	errUnresolvedParam  = windows.Errno(15030)
	errTooManyOfMessage = windows.Errno(15031)
)

// Flags and numbers of the interface.
const (
	subscribeOldest  = 2
	subscribeBehind  = 3       // a bookmark
	subscribeStrict  = 0x10000 // fails where events are gone
	queryChannel     = 1
	renderXML        = 1
	formatEvent      = 1
	channelEnabled   = 0
	channelType      = 2
	operationalType  = 1 // and 0 for administrative; others cannot be subscribed to
	eventsAtATime    = 64
	mostPublishers   = 200     // whose messages a reader knows
	mostMessage      = 1 << 17 // units of UTF-16 of an event as XML, or of its message
	variantSize      = 16
	variantValueSize = 8
)

// call calls a function that returns 0 where it fails. What arguments point to stays where it is
// while they are converted in the call.
//
//go:uintptrescapes
func call(of *windows.LazyProc, arguments ...uintptr) (uintptr, error) {
	result, _, err := of.Call(arguments...)
	switch {
	case result != 0:
		return result, nil
	case errors.Is(err, windows.ERROR_SUCCESS):
		err = errors.New("the system does not say why")
	}
	return 0, err
}

// units returns a text as the system takes it, nil where it holds a 0.
func units(s string) unsafe.Pointer {
	p, _ := windows.UTF16PtrFromString(s)
	return unsafe.Pointer(p)
}

func closeEvents(handles ...uintptr) {
	for _, h := range handles {
		if h != 0 {
			evtClose.Call(h)
		}
	}
}

// Channels implements [EventLog]: those that are in use, and keep events that can be waited for.
func (windowsLog) Channels() (names []string, err error) {
	all, err := call(evtOpenChannelEnum, 0, 0)
	if err != nil {
		return nil, err
	}
	defer closeEvents(all)
	buffer := make([]uint16, 1024)
	for {
		var used uint32
		_, err := call(evtNextChannelPath, all, uintptr(len(buffer)), uintptr(unsafe.Pointer(&buffer[0])), uintptr(unsafe.Pointer(&used)))
		switch {
		case errors.Is(err, windows.ERROR_INSUFFICIENT_BUFFER):
			buffer = make([]uint16, used)
		case errors.Is(err, windows.ERROR_NO_MORE_ITEMS):
			return names, nil
		case err != nil:
			return names, err
		default:
			if name := windows.UTF16ToString(buffer[:used]); canBeRead(name) {
				names = append(names, name)
			}
		}
	}
}

// ReadableChannels returns the channels of events that can be read here.
func ReadableChannels() ([]string, error) { return windowsLog{}.Channels() }

// canBeRead tells whether a channel is in use, and is none that only traces.
func canBeRead(name string) bool {
	channel, err := call(evtOpenChannel, 0, uintptr(units(name)), 0)
	if err != nil {
		return false
	}
	defer closeEvents(channel)
	enabled, ok := propertyOf(channel, channelEnabled)
	kind, ok2 := propertyOf(channel, channelType)
	return ok && ok2 && enabled != 0 && kind <= operationalType
}

func propertyOf(channel uintptr, property uintptr) (uint32, bool) {
	var variant [variantSize]byte
	var used uint32
	_, err := call(evtChannelProperty, channel, property, 0, variantSize, uintptr(unsafe.Pointer(&variant[0])), uintptr(unsafe.Pointer(&used)))
	return *(*uint32)(unsafe.Pointer(&variant[0])), err == nil
}

// Open implements [EventLog].
func (windowsLog) Open(channel string, after EventPlace) (EventReader, error) {
	var bookmark uintptr
	flags := uintptr(subscribeOldest | subscribeStrict)
	if after.Number > 0 {
		var err error
		if bookmark, err = bookmarkAt(channel, after); err != nil {
			return nil, err
		}
		defer closeEvents(bookmark)
		flags = subscribeBehind | subscribeStrict
	}
	signal, err := windows.CreateEvent(nil, 1, 1, nil)
	if err != nil {
		return nil, err
	}
	events, err := call(evtSubscribe, 0, uintptr(signal), uintptr(units(channel)), uintptr(units("*")), bookmark, 0, 0, flags)
	if err != nil {
		windows.CloseHandle(signal)
		if errors.Is(err, windows.ERROR_EVT_QUERY_RESULT_STALE) {
			err = fmt.Errorf("%w: %v", ErrStale, err)
		}
		return nil, err
	}
	return &windowsReader{events: events, signal: signal, publishers: map[string]uintptr{}}, nil
}

// bookmarkAt looks for the event at a place, and marks it.
func bookmarkAt(channel string, at EventPlace) (uintptr, error) {
	found, err := call(evtQuery, 0, uintptr(units(channel)), uintptr(units(fmt.Sprintf("*[System[EventRecordID=%d]]", at.Number))), queryChannel)
	if err != nil {
		return 0, err
	}
	defer closeEvents(found)
	of, err := nextOf(found, 1)
	if err != nil {
		return 0, err
	}
	if len(of) == 0 {
		return 0, ErrStale
	}
	defer closeEvents(of...)
	if at.Time != "" {
		xml, err := rendered(nil, of[0])
		if err != nil {
			return 0, err
		}
		var r event.Reader
		e, _, err := r.Read(xml, nil)
		if err != nil {
			return 0, err
		}
		if string(e.Time) != at.Time {
			return 0, ErrStale
		}
	}
	bookmark, err := call(evtCreateBookmark, 0)
	if err == nil {
		if _, err = call(evtUpdateBookmark, bookmark, of[0]); err != nil {
			closeEvents(bookmark)
		}
	}
	return bookmark, err
}

// nextOf returns the events that are there, none where there are none now.
func nextOf(of uintptr, most int) ([]uintptr, error) {
	handles := make([]uintptr, most)
	var n uint32
	_, err := call(evtNext, of, uintptr(most), uintptr(unsafe.Pointer(&handles[0])), 0, 0, uintptr(unsafe.Pointer(&n)))
	if errors.Is(err, windows.ERROR_NO_MORE_ITEMS) || errors.Is(err, windows.ERROR_TIMEOUT) || errors.Is(err, windows.WAIT_TIMEOUT) {
		return nil, nil
	}
	return handles[:n], err
}

// rendered appends an event as XML.
func rendered(dst []byte, e uintptr) ([]byte, error) {
	buffer := make([]uint16, 8<<10)
	for {
		var used, properties uint32
		_, err := call(evtRender, 0, e, renderXML, uintptr(2*len(buffer)), uintptr(unsafe.Pointer(&buffer[0])), uintptr(unsafe.Pointer(&used)), uintptr(unsafe.Pointer(&properties)))
		switch {
		case errors.Is(err, windows.ERROR_INSUFFICIENT_BUFFER) && int(used/2) > len(buffer) && used/2 <= mostMessage:
			buffer = make([]uint16, used/2)
		case err != nil:
			return dst, err
		default:
			return append(dst, windows.UTF16ToString(buffer[:min(int(used/2), len(buffer))])...), nil
		}
	}
}

// windowsReader reads a channel.
type windowsReader struct {
	events     uintptr
	signal     windows.Handle
	handles    []uintptr          // that the last call gave
	publishers map[string]uintptr // which know the messages of a source; 0 for none
}

// Next implements [EventReader].
func (r *windowsReader) Next(wait time.Duration) ([]SystemEvent, error) {
	closeEvents(r.handles...)
	windows.ResetEvent(r.signal) // before the look, so that no signal is lost
	var err error
	if r.handles, err = nextOf(r.events, eventsAtATime); err == nil && len(r.handles) == 0 {
		if _, err = windows.WaitForSingleObject(r.signal, uint32(wait.Milliseconds())); err == nil {
			r.handles, err = nextOf(r.events, eventsAtATime)
		}
	}
	if err != nil {
		return nil, err
	}
	var found []SystemEvent
	for _, h := range r.handles {
		found = append(found, &windowsEvent{reader: r, handle: h})
	}
	return found, nil
}

// Close implements [EventReader].
func (r *windowsReader) Close() {
	closeEvents(r.handles...)
	closeEvents(r.events)
	windows.CloseHandle(r.signal)
	r.forgetPublishers()
}

func (r *windowsReader) forgetPublishers() {
	for _, h := range r.publishers {
		closeEvents(h)
	}
	clear(r.publishers)
}

// publisher returns what knows the messages of a source, 0 where the host does not have it.
func (r *windowsReader) publisher(source string) uintptr {
	h, known := r.publishers[source]
	if !known {
		if len(r.publishers) == mostPublishers {
			r.forgetPublishers()
		}
		h, _ = call(evtOpenPublisher, 0, uintptr(units(source)), 0, 0, 0)
		r.publishers[source] = h
	}
	return h
}

type windowsEvent struct {
	reader *windowsReader
	handle uintptr
	source string
}

// XML implements [SystemEvent].
func (e *windowsEvent) XML(dst []byte) ([]byte, error) {
	start := len(dst)
	dst, err := rendered(dst, e.handle)
	if _, behind, ok := bytes.Cut(dst[start:], []byte("<Provider Name='")); ok {
		source, _, _ := bytes.Cut(behind, []byte{'\''})
		e.source = string(source)
	}
	return dst, err
}

// Message implements [SystemEvent].
func (e *windowsEvent) Message(dst []byte) []byte {
	publisher := e.reader.publisher(e.source)
	if publisher == 0 {
		return dst
	}
	buffer := make([]uint16, 2<<10)
	for {
		var used uint32
		_, err := call(evtFormatMessage, publisher, e.handle, 0, 0, 0, formatEvent, uintptr(len(buffer)), uintptr(unsafe.Pointer(&buffer[0])), uintptr(unsafe.Pointer(&used)))
		switch {
		case errors.Is(err, windows.ERROR_INSUFFICIENT_BUFFER) && int(used) > len(buffer) && used <= mostMessage:
			buffer = make([]uint16, used)
		case err == nil, errors.Is(err, errUnresolvedValue), errors.Is(err, errUnresolvedParam), errors.Is(err, errTooManyOfMessage):
			return append(dst, strings.TrimSpace(windows.UTF16ToString(buffer[:min(int(used), len(buffer))]))...)
		default:
			return dst
		}
	}
}
