package file

import (
	"os"
	"path/filepath"
	"sync"
)

// Op is one recorded operation on a file system, with
// paths relative to the store.
type Op struct {
	Kind     string // "mkdir", "write", "sync-file", "sync-folder", "sync-all", "rename", "remove"
	Path, To string
	Data     []byte
}

// Record makes a store tell of each operation, in an order
// in which they could have happened.
func Record(s *Store, root string, tell func(Op)) {
	s.disk = &recorder{disk: s.disk, root: root, tell: tell}
}

type recorder struct {
	disk
	root  string
	mutex sync.Mutex
	tell  func(Op)
}

func (r *recorder) note(op Op, do func() error) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	err := do()
	if err == nil {
		op.Path = r.relative(op.Path)
		if op.To != "" {
			op.To = r.relative(op.To)
		}
		r.tell(op)
	}
	return err
}

func (r *recorder) relative(path string) string {
	if path == "" {
		return ""
	}
	relative, err := filepath.Rel(r.root, path)
	if err != nil {
		panic(err)
	}
	return filepath.ToSlash(relative)
}

func (r *recorder) Mkdir(path string) error {
	if _, err := os.Lstat(path); err == nil {
		return nil
	}
	return r.note(Op{Kind: "mkdir", Path: path}, func() error { return r.disk.Mkdir(path) })
}

func (r *recorder) Write(path string, data []byte) error {
	return r.note(Op{Kind: "write", Path: path, Data: append([]byte{}, data...)},
		func() error { return r.disk.Write(path, data) })
}

func (r *recorder) SyncFile(path string) error {
	return r.note(Op{Kind: "sync-file", Path: path}, func() error { return r.disk.SyncFile(path) })
}

func (r *recorder) SyncFolder(path string) error {
	return r.note(Op{Kind: "sync-folder", Path: path}, func() error { return r.disk.SyncFolder(path) })
}

func (r *recorder) SyncAll() (bool, error) {
	done := false
	err := r.note(Op{Kind: "sync-all"}, func() (err error) { done, err = r.disk.SyncAll(); return err })
	return done, err
}

func (r *recorder) RenameNew(from, to string) error {
	return r.note(Op{Kind: "rename", Path: from, To: to}, func() error { return r.disk.RenameNew(from, to) })
}

func (r *recorder) RenameOver(from, to string) error {
	return r.note(Op{Kind: "rename", Path: from, To: to}, func() error { return r.disk.RenameOver(from, to) })
}

func (r *recorder) Remove(path string) error {
	return r.note(Op{Kind: "remove", Path: path}, func() error { return r.disk.Remove(path) })
}
