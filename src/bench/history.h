// Undo and redo: the documents before and after. A document is a small value, so whole copies are kept.
// Edits that follow each other under one merge key (typing a value, dragging a part) are one step.
// Tested by tests/bench/edits_test.cpp.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "bench/document.h"

namespace bramix::bench {

class History {
public:
    // `now` is the document before the edit called `name`; an empty merge key never merges.
    void record(const Document& now, std::string name, const std::string& mergeKey = {})
    {
        redo_.clear();
        if (!mergeKey.empty() && mergeKey == mergeKey_ && !undo_.empty())
            return;
        mergeKey_ = mergeKey;
        undo_.push_back({std::move(name), now});
        if (undo_.size() > kMost)
            undo_.erase(undo_.begin());
    }

    [[nodiscard]] bool canUndo() const { return !undo_.empty(); }
    [[nodiscard]] bool canRedo() const { return !redo_.empty(); }
    [[nodiscard]] std::string undoName() const { return undo_.empty() ? "" : undo_.back().name; }
    [[nodiscard]] std::string redoName() const { return redo_.empty() ? "" : redo_.back().name; }

    // Swaps the document with the one before (after); does nothing where there is none.
    void undo(Document& document) { turn(document, undo_, redo_); }
    void redo(Document& document) { turn(document, redo_, undo_); }
    // The next edit begins a step of its own.
    void endMerge() { mergeKey_.clear(); }
    void clear()
    {
        undo_.clear();
        redo_.clear();
        mergeKey_.clear();
    }

private:
    struct Step {
        std::string name;
        Document document;
    };
    static constexpr std::size_t kMost = 1000;

    void turn(Document& document, std::vector<Step>& from, std::vector<Step>& to)
    {
        if (from.empty())
            return;
        mergeKey_.clear();
        Step step = std::move(from.back());
        from.pop_back();
        std::swap(document, step.document);
        to.push_back(std::move(step));
    }

    std::vector<Step> undo_;
    std::vector<Step> redo_;
    std::string mergeKey_;
};

}  // namespace bramix::bench
