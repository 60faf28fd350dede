package service

import (
	"context"
	"crypto/sha256"
	"errors"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/picture"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// DefaultPictureMiB is how many MiB the pictures of a collection may have together if nobody says.
const DefaultPictureMiB = 512

// A Picture is one that items of a collection can show.
type Picture struct {
	ID            string
	Width, Height int        // of the largest, in pixels
	Taken         *geo.Point // where it was taken, as its file says; nil if it does not
}

// AddPicture keeps a picture for the items of a collection, in three sizes and without what its
// file says beside it. The same file brought again is the same picture.
func (s *Service) AddPicture(ctx context.Context, collection string, file []byte) (Picture, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Picture{}, err
	}
	head, err := picture.Peek(file)
	if err != nil {
		return Picture{}, err
	}
	read, err := s.readPicture(ctx, file, &head)
	if err != nil {
		return Picture{}, err
	}
	hash := sha256.Sum256(file)
	made := store.Picture{
		CollectionKey: c.Info().Key, Hash: hash[:], Width: read.Width, Height: read.Height, MadeBy: policy.By(ctx),
		Small: read.Files[picture.Small], Medium: read.Files[picture.Medium], Large: read.Files[picture.Large],
	}
	if made.ID, err = store.NewID(); err != nil {
		return Picture{}, err
	}
	most := DefaultPictureMiB
	if m := c.Info().PictureMiB; m != nil {
		most = *m
	}
	made, err = s.store.AddPicture(ctx, made, int64(most)<<20)
	if errors.Is(err, store.ErrTooMany) {
		return Picture{}, invalid.New("file", "does not fit: the pictures of the collection may have %d MiB together", most).
			Hinted("an owner can let it have more")
	}
	if err != nil {
		return Picture{}, fault.Explain(err, collection, "")
	}
	return Picture{made.ID, made.Width, made.Height, read.Taken}, nil
}

// readPicture makes a picture of a file when it is its turn.
func (s *Service) readPicture(ctx context.Context, file []byte, head *picture.Header) (picture.Picture, error) {
	release, err := s.desk.Admit(ctx, admission.Need{Bytes: head.Bytes(), Work: true})
	if err != nil {
		return picture.Picture{}, err
	}
	defer release()
	return picture.Read(file)
}

// PictureFile returns a picture of a collection as a file of [picture.MediaType].
func (s *Service) PictureFile(ctx context.Context, collection, id string, size picture.Size) ([]byte, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	file, err := s.store.PictureFile(ctx, c.Info().Key, id, string(size))
	return file, explainPicture(err, id)
}

// DeletePicture takes out a picture, whatever shows it.
func (s *Service) DeletePicture(ctx context.Context, collection, id string) error {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return err
	}
	return explainPicture(s.store.DeletePicture(ctx, c.Info().Key, id), id)
}

func explainPicture(err error, id string) error {
	if errors.Is(err, store.ErrNoPicture) {
		return &fault.NotFoundError{What: "picture", ID: id}
	}
	return err
}
