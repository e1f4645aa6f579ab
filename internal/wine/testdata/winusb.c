// A stand-in for Windows' winusb.dll, for tests under Wine alone: the "device" is a named pipe of
// messages, each a packet from the phone, or a transfer to it. The first message says what the
// interface is: protocol, number, and the size of a packet.
//
//	x86_64-w64-mingw32-gcc -O1 -shared -o winusb.dll winusb.c
#include <windows.h>

typedef struct {
	HANDLE h;
	UCHAR protocol, number;
	USHORT packet;
	HANDLE stop[2]; // of a read and of a write that is under way
} dev;

typedef struct {
	dev *d;
	int write;
	PUCHAR b;
	ULONG n;
	OVERLAPPED *o;
} job;

typedef struct { UCHAR bLength, bDescriptorType, bInterfaceNumber, bAlternateSetting, bNumEndpoints, bInterfaceClass, bInterfaceSubClass, bInterfaceProtocol, iInterface; } IFD;
typedef struct { int PipeType; UCHAR PipeId; USHORT MaximumPacketSize; UCHAR Interval; } PI;

#define X __declspec(dllexport) BOOL WINAPI

// piece reads or writes one message; its error is 0, or the system's.
static DWORD piece(dev *d, int write, void *b, ULONG n, DWORD *got) {
	OVERLAPPED o = {0};
	DWORD e = 0;
	*got = 0;
	o.hEvent = CreateEventW(0, 1, 0, 0);
	BOOL ok = write ? WriteFile(d->h, b, n, NULL, &o) : ReadFile(d->h, b, n, NULL, &o);
	if (!ok && (e = GetLastError()) == ERROR_IO_PENDING) {
		HANDLE w[2] = {o.hEvent, d->stop[write]};
		if (WaitForMultipleObjects(2, w, FALSE, INFINITE) == WAIT_OBJECT_0 + 1) CancelIoEx(d->h, &o);
		e = 0;
	} else if (ok) {
		e = 0;
	}
	if (!e && !GetOverlappedResult(d->h, &o, got, TRUE)) e = GetLastError();
	if (e == ERROR_MORE_DATA) e = 0;
	CloseHandle(o.hEvent);
	return e;
}

static DWORD WINAPI run(void *v) {
	job *j = v;
	DWORD got = 0, k = 0, e = 0;
	if (j->write) {
		e = piece(j->d, 1, j->b, j->n, &got);
	} else {
		while (got < j->n) {
			e = piece(j->d, 0, j->b + got, j->d->packet, &k);
			got += k;
			if (e || k < j->d->packet) break;
		}
	}
	j->o->InternalHigh = got;
	j->o->Internal = e;
	SetEvent(j->o->hEvent);
	LocalFree(j);
	return 0;
}

static BOOL begin(dev *d, int write, PUCHAR b, ULONG n, OVERLAPPED *o) {
	job *j = LocalAlloc(LPTR, sizeof *j);
	j->d = d; j->write = write; j->b = b; j->n = n; j->o = o;
	ResetEvent(d->stop[write]);
	ResetEvent(o->hEvent);
	HANDLE t = CreateThread(NULL, 0, run, j, 0, NULL);
	if (!t) return FALSE;
	CloseHandle(t);
	SetLastError(ERROR_IO_PENDING);
	return FALSE;
}

X WinUsb_Initialize(HANDLE h, dev **out) {
	DWORD mode = PIPE_READMODE_MESSAGE, got = 0;
	UCHAR hello[4];
	dev *d = LocalAlloc(LPTR, sizeof *d);
	d->h = h;
	d->packet = 4;
	d->stop[0] = CreateEventW(0, 1, 0, 0);
	d->stop[1] = CreateEventW(0, 1, 0, 0);
	SetNamedPipeHandleState(h, &mode, NULL, NULL);
	DWORD e = piece(d, 0, hello, sizeof hello, &got);
	if (e || got != sizeof hello) { LocalFree(d); SetLastError(e ? e : ERROR_BAD_COMMAND); return FALSE; }
	d->protocol = hello[0]; d->number = hello[1]; d->packet = hello[2] | hello[3] << 8;
	*out = d;
	return TRUE;
}
X WinUsb_Free(dev *d) { CloseHandle(d->stop[0]); CloseHandle(d->stop[1]); LocalFree(d); return TRUE; }
X WinUsb_QueryInterfaceSettings(dev *d, UCHAR alt, IFD *i) {
	if (alt) { SetLastError(ERROR_NO_MORE_ITEMS); return FALSE; }
	IFD x = {9, 4, d->number, 0, 2, 0xff, 0x42, d->protocol, 0};
	*i = x;
	return TRUE;
}
X WinUsb_QueryPipe(dev *d, UCHAR alt, UCHAR n, PI *p) {
	if (n > 1) { SetLastError(ERROR_NO_MORE_ITEMS); return FALSE; }
	p->PipeType = 2; p->PipeId = n ? 0x01 : 0x81; p->MaximumPacketSize = d->packet; p->Interval = 0;
	return TRUE;
}
X WinUsb_SetPipePolicy(dev *d, UCHAR id, ULONG t, ULONG n, void *v) { return TRUE; }
X WinUsb_GetPipePolicy(dev *d, UCHAR id, ULONG t, ULONG *n, void *v) { *(ULONG *)v = t == 8 ? 256 * 1024 : 0; *n = 4; return TRUE; }
X WinUsb_WritePipe(dev *d, UCHAR id, PUCHAR b, ULONG n, ULONG *got, OVERLAPPED *o) { return begin(d, 1, b, n, o); }
X WinUsb_ReadPipe(dev *d, UCHAR id, PUCHAR b, ULONG n, ULONG *got, OVERLAPPED *o) { return begin(d, 0, b, n, o); }
X WinUsb_GetOverlappedResult(dev *d, OVERLAPPED *o, ULONG *got, BOOL wait) {
	if (WaitForSingleObject(o->hEvent, wait ? INFINITE : 0) != WAIT_OBJECT_0) { SetLastError(ERROR_IO_INCOMPLETE); return FALSE; }
	*got = (ULONG)o->InternalHigh;
	SetLastError((DWORD)o->Internal);
	return o->Internal == 0;
}
X WinUsb_AbortPipe(dev *d, UCHAR id) { SetEvent(d->stop[id & 0x80 ? 0 : 1]); return TRUE; }
X WinUsb_ResetPipe(dev *d, UCHAR id) { return TRUE; }
BOOL WINAPI DllMain(HINSTANCE h, DWORD r, LPVOID v) { return TRUE; }
