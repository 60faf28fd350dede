package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"idlebeacon/internal/core/icon"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

// MaxIcons is how many icons users may bring.
const MaxIcons = 500

// An Icon is a picture that looks can name.
type Icon struct {
	Name string
	icon.Icon
	BuiltIn bool
	Version int64 // greater whenever it is replaced; 0 of one that is built in
}

// Icons lists the icons without their pictures: the built-in ones and those that users
// brought, each by name.
func (s *Service) Icons(ctx context.Context) ([]Icon, error) {
	own, err := s.store.Icons(ctx, false)
	if err != nil {
		return nil, err
	}
	var all []Icon
	for _, name := range icon.Names {
		built, _ := icon.BuiltIn(name)
		built.Data = nil
		all = append(all, Icon{Name: name, Icon: built, BuiltIn: true})
	}
	seen, err := s.iconsSeen(ctx)
	if err != nil {
		return nil, err
	}
	for i := range own {
		if seen(own[i].Name) {
			all = append(all, Icon{Name: own[i].Name, Icon: pictureOf(&own[i]), Version: own[i].Version})
		}
	}
	return all, nil
}

// iconsSeen returns which of the icons that users brought the actor of ctx may see: owners of
// everything see all, others those in the styles of the collections that they see.
func (s *Service) iconsSeen(ctx context.Context) (func(name string) bool, error) {
	if actor := policy.ActorIn(ctx); actor == nil || actor.Everywhere(policy.Owner) {
		return func(string) bool { return true }, nil
	}
	used, err := s.iconsUsed(func(c *replica.Copy) bool { return seen(ctx, c) })
	return func(name string) bool { return len(used[name]) > 0 }, err
}

// iconsUsed returns for each icon that is named in the styles of some collections which these
// are.
func (s *Service) iconsUsed(of func(*replica.Copy) bool) (map[string][]string, error) {
	all, err := s.replica.Collections()
	used := map[string][]string{}
	for _, c := range all {
		info := c.Info()
		if info.Style == nil || !of(c) {
			continue
		}
		if parsed, err := style.Parse([]byte(*info.Style)); err == nil {
			for _, name := range parsed.Icons() {
				if !slices.Contains(used[name], info.ID) {
					used[name] = append(used[name], info.ID)
				}
			}
		}
	}
	return used, err
}

// Icon returns an icon with its picture.
func (s *Service) Icon(ctx context.Context, name string) (Icon, error) {
	if built, there := icon.BuiltIn(name); there {
		return Icon{Name: name, Icon: built, BuiltIn: true}, nil
	}
	seen, err := s.iconsSeen(ctx)
	if err != nil {
		return Icon{}, err
	}
	if !seen(name) {
		return Icon{}, explainIcon(store.ErrNoIcon, name)
	}
	own, err := s.store.Icon(ctx, name)
	if err != nil {
		return Icon{}, explainIcon(err, name)
	}
	return Icon{Name: name, Icon: pictureOf(&own), Version: own.Version}, nil
}

func pictureOf(i *store.Icon) icon.Icon {
	return icon.Icon{MediaType: i.MediaType, Data: i.Data, Width: i.Width, Height: i.Height}
}

func explainIcon(err error, name string) error {
	if errors.Is(err, store.ErrNoIcon) {
		return &fault.NotFoundError{What: "icon", ID: name}
	}
	return err
}

// SetIcon keeps a picture that a user brings under a name.
func (s *Service) SetIcon(ctx context.Context, name string, file []byte) (i Icon, created bool, err error) {
	if err := icon.CheckName(name); err != nil {
		return i, false, invalid.In("name", err)
	}
	picture, err := icon.Read(file)
	if err != nil {
		return i, false, invalid.In("file", err)
	}
	created, err = s.store.PutIcon(
		ctx,
		store.Icon{
			Name:      name,
			MediaType: picture.MediaType,
			Width:     picture.Width,
			Height:    picture.Height,
			Data:      picture.Data,
		},
		MaxIcons,
	)
	if errors.Is(err, store.ErrTooMany) {
		return i, false, invalid.New(
			"name",
			"there are %d icons already, which is the most; delete one first",
			MaxIcons,
		)
	}
	if err != nil {
		return i, false, err
	}
	return Icon{Name: name, Icon: picture}, created, nil
}

// DeleteIcon takes out an icon that no style names.
func (s *Service) DeleteIcon(ctx context.Context, name string) error {
	if _, built := icon.BuiltIn(name); built {
		return invalid.New("name", "%q is a built-in icon, which stays", name)
	}
	used, err := s.iconsUsed(func(*replica.Copy) bool { return true })
	if err != nil { // what styles name is not known
		return err
	}
	if users := used[name]; len(users) > 0 {
		return &fault.ConflictError{
			What:   "icon",
			ID:     name,
			Reason: fmt.Sprintf("is in the style of %s; change that first", strings.Join(users, ", ")),
		}
	}
	return explainIcon(s.store.DeleteIcon(ctx, name), name)
}

// WriteSheet writes all icons as one SVG document.
func (s *Service) WriteSheet(ctx context.Context, w io.Writer) error {
	own, err := s.store.Icons(ctx, true)
	if err != nil {
		return err
	}
	seen, err := s.iconsSeen(ctx)
	if err != nil {
		return err
	}
	return icon.WriteSheet(w, func(yield func(string, icon.Icon) bool) {
		for _, name := range icon.Names {
			if built, _ := icon.BuiltIn(name); !yield(name, built) {
				return
			}
		}
		for i := range own {
			if seen(own[i].Name) && !yield(own[i].Name, pictureOf(&own[i])) {
				return
			}
		}
	})
}

// checkIcons reports the first icon that a style names and that is not there.
func (s *Service) checkIcons(ctx context.Context, of *style.Style) error {
	for field, name := range of.Icons() {
		if slices.Contains(icon.Names, name) {
			continue
		}
		var missing *fault.NotFoundError
		if _, err := s.Icon(ctx, name); errors.As(err, &missing) {
			return invalid.New(
				field,
				"%q is not an icon; want one of your own or one of %s",
				name,
				strings.Join(icon.Names, ", "),
			)
		} else if err != nil {
			return err
		}
	}
	return nil
}
