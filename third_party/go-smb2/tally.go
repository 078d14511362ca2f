package smb2

import "github.com/cloudsoda/go-smb2/internal/smb2"

// What Idle Tally needs of this library besides what it had: see CHANGES.

// ShareFlags are what the server said of the share when it was opened (MS-SMB2 2.2.10).
func (fs *Share) ShareFlags() uint32 { return fs.shareFlags }

// OpenWith opens what is there with rights and options of the caller's choice (MS-SMB2 2.2.13), and follows no link.
func (fs *Share) OpenWith(name string, access, options uint32) (*File, error) {
	const notFollow = 0x0020_0000 // FILE_OPEN_REPARSE_POINT
	return fs.createFile(name, &smb2.CreateRequest{
		ImpersonationLevel: smb2.Impersonation,
		DesiredAccess:      access,
		ShareAccess:        smb2.FILE_SHARE_READ | smb2.FILE_SHARE_WRITE | smb2.FILE_SHARE_DELETE,
		CreateDisposition:  smb2.FILE_OPEN,
		CreateOptions:      options | notFollow,
		Mapping:            fs.mapping,
	}, false)
}

// QueryFile asks for information of a class (MS-FSCC 2.4) about what is open, at most so many bytes.
func (f *File) QueryFile(class uint8, most uint32) ([]byte, error) {
	return f.queryInfo(&smb2.QueryInfoRequest{InfoType: 1, FileInfoClass: class, OutputBufferLength: most})
}

// Delete asks for what is open to be deleted when it is closed (MS-FSCC 2.4.11), whatever it is marked as.
func (f *File) Delete() error { return f.remove() }
