package private

import (
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
)

// self is the account that this process runs as.
func self() (*windows.SID, error) {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return nil, fmt.Errorf("the account of this process: %w", err)
	}
	return user.User.Sid, nil
}

// guard is the descriptor of new files and folders: a protected list. Modes mean nothing here, and what a folder
// passes on lets the system's users read.
func guard(flags string) (*windows.SECURITY_DESCRIPTOR, error) {
	me, err := self()
	if err != nil {
		return nil, err
	}
	list := "D:P"
	for _, who := range []string{"SY", "BA", me.String()} {
		list += "(A;" + flags + ";FA;;;" + who + ")"
	}
	return windows.SecurityDescriptorFromString(list)
}

func attributes(d *windows.SECURITY_DESCRIPTOR) *windows.SecurityAttributes {
	a := &windows.SecurityAttributes{SecurityDescriptor: d}
	a.Length = uint32(unsafe.Sizeof(*a))
	return a
}

// MkdirAll makes a folder, and those above that are not there. What exists stays as it is: that is for Check.
func MkdirAll(dir string) error {
	if st, err := os.Stat(dir); err == nil && st.IsDir() {
		return nil
	}

	if up := filepath.Dir(dir); up != dir {
		if err := MkdirAll(up); err != nil {
			return err
		}
	}

	d, err := guard("OICI")
	if err != nil {
		return err
	}
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return err
	}
	if err := windows.CreateDirectory(name, attributes(d)); err != nil && !errors.Is(err, os.ErrExist) {
		return &os.PathError{Op: "mkdir", Path: dir, Err: err}
	}

	return nil
}

// Open is os.OpenFile for a file that is nobody else's: an existing one is given the list, too.
func Open(name string, flag int) (*os.File, error) {
	d, err := guard("")
	if err != nil {
		return nil, err
	}
	at, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return nil, err
	}
	list, _, err := d.DACL()
	if err != nil {
		return nil, err
	}

	h, err := windows.CreateFile(at, accessOf(flag)|windows.READ_CONTROL|windows.WRITE_DAC,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, attributes(d),
		disposition(flag), windows.FILE_ATTRIBUTE_NORMAL, 0)
	if err == nil {
		err = windows.SetSecurityInfo(h, windows.SE_FILE_OBJECT,
			windows.DACL_SECURITY_INFORMATION|windows.PROTECTED_DACL_SECURITY_INFORMATION, nil, nil, list, nil)
		if err != nil {
			windows.CloseHandle(h)
		}
	}

	if err != nil {
		return nil, &os.PathError{Op: "open", Path: name, Err: err}
	}

	return os.NewFile(uintptr(h), name), nil
}

func accessOf(flag int) uint32 {
	switch {
	case flag&os.O_APPEND != 0:
		return windows.FILE_APPEND_DATA | windows.SYNCHRONIZE
	case flag&os.O_RDWR != 0:
		return windows.GENERIC_READ | windows.GENERIC_WRITE
	case flag&os.O_WRONLY != 0:
		return windows.GENERIC_WRITE
	}
	return windows.GENERIC_READ
}

func disposition(flag int) uint32 {
	switch {
	case flag&(os.O_CREATE|os.O_EXCL) == os.O_CREATE|os.O_EXCL:
		return windows.CREATE_NEW
	case flag&(os.O_CREATE|os.O_TRUNC) == os.O_CREATE|os.O_TRUNC:
		return windows.CREATE_ALWAYS
	case flag&os.O_CREATE != 0:
		return windows.OPEN_ALWAYS
	}
	return windows.OPEN_EXISTING
}

// CreateTemp is os.CreateTemp for a file that is nobody else's.
func CreateTemp(dir, pattern string) (*os.File, error) {
	front, end, _ := strings.Cut(pattern, "*")
	for range 100 {
		f, err := Open(filepath.Join(dir, front+rand.Text()+end), os.O_RDWR|os.O_CREATE|os.O_EXCL)
		if !errors.Is(err, os.ErrExist) {
			return f, err
		}
	}
	return nil, fmt.Errorf("%s: no name is free", strconv.Quote(filepath.Join(dir, pattern)))
}

func exposed(at string, _ os.FileInfo, secret bool) error {
	shown := pathname.Escape(filepath.ToSlash(at))
	sd, err := windows.GetNamedSecurityInfo(at, windows.SE_FILE_OBJECT,
		windows.OWNER_SECURITY_INFORMATION|windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return fmt.Errorf("%s: who can get at it: %w", shown, err)
	}
	d, err := ntsd.Parse(unsafe.Slice((*byte)(unsafe.Pointer(sd)), sd.Length()))
	if err != nil {
		return fmt.Errorf("%s: %w", shown, err)
	}
	me, err := self()
	if err != nil {
		return err
	}
	mine, err := ntsd.ParseSID(me.String())
	if err != nil {
		return err
	}

	who, found := other(d, mine, secret)
	if !found {
		return nil
	}

	can := "write to"
	if secret {
		can = "read"
	}

	return fmt.Errorf(
		"%s can %s %s: let only the system, its administrators and the account that the agent runs as do that",
		called(who), can, shown)
}

func called(who ntsd.SID) string {
	if id, err := windows.StringToSid(who.String()); err == nil {
		if name, domain, _, err := id.LookupAccount(""); err == nil {
			return strings.TrimPrefix(domain+`\`+name, `\`)
		}
	}
	return who.String()
}
