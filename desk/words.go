package desk

import (
	"context"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"gorm.io/gorm/clause"

	"glenrain/core/spelling"
	"glenrain/core/step"
	"glenrain/desk/people"
)

// LearnedWord is a word of the house: it is right, though no dictionary has it.
type LearnedWord struct {
	ID        uint
	Word      string `gorm:"uniqueIndex"`
	PersonID  uint   // who taught it
	CreatedAt time.Time
}

// Bounds of the words of the house.
const (
	mostLearned = 20_000
	longLearned = 80 // letters
)

// learned are the words of the house, read once.
type learned struct {
	mu    sync.Mutex
	words map[string]bool
}

// LearnWord keeps a word as one of the house's: without the punctuation around it.
func (d *Desk) LearnWord(ctx context.Context, person uint, word string) (string, error) {
	if err := d.may(ctx, person, people.ActAdd, nil); err != nil {
		return "", err
	}
	w := spelling.Core(strings.TrimSpace(word))
	switch {
	case w == "" || strings.ContainsAny(w, " \t\n"):
		return "", step.Refuse("“%s” can’t be added to the dictionary: words with figures or without letters are never checked", strings.TrimSpace(word))
	case utf8.RuneCountInString(w) > longLearned:
		return "", step.Refuse("a word can have up to %d characters", longLearned)
	}
	var n int64
	if err := d.db.WithContext(ctx).Model(&LearnedWord{}).Count(&n).Error; err != nil {
		return "", err
	}
	if n >= mostLearned {
		return "", step.Refuse("the office dictionary has %s words: remove some first", step.Thousands(mostLearned))
	}
	err := d.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&LearnedWord{Word: w, PersonID: person, CreatedAt: d.now()}).Error
	d.unlearn()
	return w, err
}

// ForgetWord takes a word out of those of the house.
func (d *Desk) ForgetWord(ctx context.Context, person, id uint) error {
	if err := d.may(ctx, person, people.ActAdd, nil); err != nil {
		return err
	}
	err := d.db.WithContext(ctx).Delete(&LearnedWord{}, id).Error
	d.unlearn()
	return err
}

// LearnedWords gives the words of the house, in order: up to most, and how many there are.
func (d *Desk) LearnedWords(ctx context.Context, most int) (list []LearnedWord, all int64, err error) {
	if err = d.db.WithContext(ctx).Model(&LearnedWord{}).Count(&all).Error; err == nil {
		err = d.db.WithContext(ctx).Order("word COLLATE NOCASE, word").Limit(most).Find(&list).Error
	}
	return list, all, err
}

func (d *Desk) unlearn() {
	d.words.mu.Lock()
	d.words.words = nil
	d.words.mu.Unlock()
}

// KnowsWord reports whether the house has learned a word.
func (d *Desk) KnowsWord(word string) bool {
	d.words.mu.Lock()
	defer d.words.mu.Unlock()
	if d.words.words == nil {
		var list []string
		if err := d.db.Model(&LearnedWord{}).Limit(mostLearned).Pluck("word", &list).Error; err != nil {
			return false // they are asked for again with the next word
		}
		d.words.words = make(map[string]bool, len(list))
		for _, w := range list {
			d.words.words[w] = true
		}
	}
	return d.words.words[word]
}
