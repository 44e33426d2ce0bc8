package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/array"
	"patientheron/core/setup"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// ByID names one record.
type ByID struct {
	ID int64 `path:"id" minimum:"1"`
}

// VolumeList is all volumes by name.
type VolumeList struct {
	Volumes []resource.Volume `json:"volumes"`
	Listed
}

func (s *Service) registerVolumes(api huma.API) {
	register(s, api, operation(http.MethodGet, "/volumes", "list-volumes", "All volumes", http.StatusOK),
		func(ctx context.Context, in *Page) (*body[VolumeList], error) {
			all, unreadable, err := s.Store.Volumes(ctx)
			if err != nil {
				return nil, err
			}
			volumes, listed, err := paged(all, unreadable, *in, func(v resource.Volume) int64 { return v.ID })
			if err != nil {
				return nil, err
			}
			return &body[VolumeList]{VolumeList{s.looked(ctx, volumes), listed}}, nil
		})

	register(s, api, operation(http.MethodPost, "/volumes", "add-volume", "Register a volume", http.StatusCreated, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewVolume }) (*body[resource.Volume], error) {
			volume, err := s.addVolume(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Volume]{volume}, nil
		})

	register(s, api, operation(http.MethodGet, "/volumes/{id}", "get-volume", "One volume, looked at anew", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Volume], error) {
			volume, err := s.Store.Volume(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &body[resource.Volume]{s.looked(ctx, []resource.Volume{volume})[0]}, nil
		})

	register(s, api, operation(http.MethodGet, "/volumes/{id}/array", "explain-array", "What a simulated array is, in words and ceilings", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *ByID) (*body[array.Explanation], error) {
			registered, err := s.Store.Volume(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			locator, err := parsed(ctx, registered.Locator)
			if err == nil && !storage.TraitsOf(locator.Kind).Described {
				err = fmt.Errorf("%w: volume %s is a %s, not a simulated array", volume.ErrLocator, registered.Name, registered.Kind)
			}
			if err != nil {
				return nil, err
			}
			d, err := inTime(ctx, registered.Locator, "array", func(context.Context) (array.Description, error) { return s.Bounds.ReadArray(locator) })
			if err != nil {
				return nil, err
			}
			return &body[array.Explanation]{d.Explain()}, nil
		})

	register(s, api, operation(http.MethodPut, "/volumes/{id}/consent", "give-consent", "Agree that what a registered file or device holds may be lost", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body resource.ConsentToWrite
		}) (*body[resource.Volume], error) {
			volume, err := s.giveConsent(ctx, in.ID, &in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Volume]{s.looked(ctx, []resource.Volume{volume})[0]}, nil
		})

	register(s, api, operation(http.MethodDelete, "/volumes/{id}/consent", "withdraw-consent", "Take consent to overwrite back, also from runs that wait", http.StatusNoContent, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if _, err := s.giveConsent(ctx, in.ID, nil); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodDelete, "/volumes/{id}", "remove-volume", "Remove a volume; its runs stay, and nothing on it is touched", http.StatusNoContent, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.removeVolume(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})
}

func (s *Service) addVolume(ctx context.Context, v resource.NewVolume) (resource.Volume, error) {
	locator, err := parsed(ctx, v.Locator)
	if err != nil {
		return resource.Volume{}, err
	}
	facts, err := inTime(ctx, locator.String(), "look", func(ctx context.Context) (setup.Facts, error) { return s.Bounds.Look(ctx, locator) })
	if err != nil {
		return resource.Volume{}, err
	}
	volume := resource.Volume{Name: v.Name, Locator: locator.String(), Kind: locator.Kind}
	if volume.Name == "" {
		if volume.Name, err = s.freeName(ctx, s.ownName(ctx, locator)); err != nil {
			return volume, err
		}
	}
	if v.Consent != nil {
		if volume.Consent, err = s.agree(ctx, locator, *v.Consent); err != nil {
			return volume, err
		}
	}
	volume, err = s.Store.AddVolume(ctx, volume)
	if errors.Is(err, store.ErrTaken) {
		err = fmt.Errorf("%w: a volume with this name or this locator is registered; choose another name, or use the registered one", err)
	}
	volume.Facts = &facts
	volume.Writes = writesOf(volume)
	traits := storage.TraitsOf(volume.Kind)
	volume.Traits = &traits
	return volume, err
}

// parsed reads a locator and looks at what it names.
func parsed(ctx context.Context, locator string) (volume.Locator, error) {
	return inTime(ctx, locator, "parse", func(context.Context) (volume.Locator, error) { return storage.Parse(locator) })
}

// agree takes consent to overwrite what a locator names.
func (s *Service) agree(ctx context.Context, locator volume.Locator, stated resource.ConsentToWrite) (*resource.Consent, error) {
	claim := volume.Claim{Size: stated.Size, Serial: stated.Serial, Holds: stated.Holds}
	ctx, cancel := context.WithTimeout(ctx, agreeTime)
	defer cancel()
	identity, err := patient.Ask(ctx, locator.String(), volume.Question("agree", claim), func(ctx context.Context) (setup.Identity, error) { return s.Bounds.Agree(ctx, locator, claim) })
	if err != nil {
		return nil, err
	}
	return &resource.Consent{Size: stated.Size, Serial: stated.Serial, Holds: stated.Holds, Given: time.Now().UTC(), Identity: &identity}, nil
}

// giveConsent takes consent for a registered volume, in place of what was
// agreed to before; nil withdraws it.
func (s *Service) giveConsent(ctx context.Context, id int64, stated *resource.ConsentToWrite) (resource.Volume, error) {
	volume, err := s.Store.Volume(ctx, id)
	if err != nil {
		return volume, err
	}
	var consent *resource.Consent
	if stated != nil {
		locator, err := parsed(ctx, volume.Locator)
		if err != nil {
			return volume, err
		}
		if consent, err = s.agree(ctx, locator, *stated); err != nil {
			return volume, err
		}
	}
	err = s.Store.ChangeConsent(ctx, id, func(*resource.Consent) *resource.Consent { return consent })
	volume.Consent = consent
	return volume, err
}

// freeName is a name that no volume has yet: the one given, or with a number behind it.
func (s *Service) freeName(ctx context.Context, name string) (string, error) {
	volumes, _, err := s.Store.Volumes(ctx)
	if err != nil {
		return "", err
	}
	free := name
	for n := 2; slices.ContainsFunc(volumes, func(v resource.Volume) bool { return v.Name == free }); n++ {
		free = fmt.Sprintf("%s-%d", name, n)
	}
	return free, nil
}

// ownName is what a volume calls itself, or a name made of the locator.
func (s *Service) ownName(ctx context.Context, l volume.Locator) string {
	name, err := inTime(ctx, l.String(), "name", func(ctx context.Context) (string, error) { return s.Bounds.NameOf(ctx, l), nil })
	if name = plainName(name); err == nil && name != "" {
		return name
	}
	return defaultName(l.String())
}

// plainName is a text as a name of a volume: what that may not hold becomes a hyphen.
func plainName(text string) string {
	name := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsNumber(r) || strings.ContainsRune(" ._-", r) {
			return r
		}
		return '-'
	}, text)
	name = strings.Trim(name, "-._ ")
	for len(name) > 80 {
		_, size := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-size]
	}
	return name
}

// defaultName is the locator without what a name may not hold.
func defaultName(locator string) string {
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r == '/' || r == ':' {
			return '-'
		}
		return r
	}, locator), "-. ")
	if name == "" {
		return "root"
	}
	if len(name) > 80 {
		name = name[len(name)-80:]
	}
	return name
}

// removeVolume removes a volume that no unfinished run uses.
func (s *Service) removeVolume(ctx context.Context, id int64) error {
	under, _, err := s.Store.RunsWithStatus(ctx, resource.Queued, resource.Preparing, resource.Settling, resource.Waiting, resource.Running)
	if err != nil {
		return err
	}
	for _, run := range under {
		if run.VolumeID == id {
			return fmt.Errorf("volume %d: %w: run %d is %s on it; stop the run first", id, errBusy, run.ID, run.Status)
		}
	}
	return s.Store.RemoveVolume(ctx, id)
}

// looked adds to volumes what is found there now. A volume that cannot be
// looked at says why; one that hangs does not delay the others.
func (s *Service) looked(ctx context.Context, volumes []resource.Volume) []resource.Volume {
	type found struct {
		index   int
		facts   *setup.Facts
		trouble string
	}
	all := make(chan found, len(volumes))
	for i, v := range volumes {
		go func() {
			facts, err := inTime(ctx, v.Locator, "parse and look", func(ctx context.Context) (setup.Facts, error) {
				locator, err := storage.Parse(v.Locator)
				if err != nil {
					return setup.Facts{}, err
				}
				return s.Bounds.Look(ctx, locator)
			})
			if err != nil {
				all <- found{index: i, trouble: err.Error()}
				return
			}
			all <- found{index: i, facts: &facts}
		}()
	}
	for range volumes {
		f := <-all
		v := &volumes[f.index]
		traits := storage.TraitsOf(v.Kind)
		v.Facts, v.Trouble, v.Writes, v.Traits = f.facts, f.trouble, writesOf(*v), &traits
	}
	return volumes
}

// writesOf says where what a load writes to a volume goes.
func writesOf(v resource.Volume) string {
	switch traits := storage.TraitsOf(v.Kind); {
	case traits.KeepsNothing:
		return "kept nowhere"
	case v.Consent != nil && v.Consent.Lapsed != "":
		return "no longer: consent lapsed"
	case v.Consent != nil:
		return "may overwrite all"
	case traits.Makes:
		return "a test file"
	}
	return "no"
}
