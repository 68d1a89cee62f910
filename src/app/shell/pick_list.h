// A field that finds things: type, see what matches, press Enter. Used to add a part and to find anything.
#pragma once

#include <functional>

#include <QPointer>
#include <QFrame>
#include <QIcon>
#include <QLineEdit>
#include <QListWidget>

namespace bramix::app {

class PickList : public QFrame {
    Q_OBJECT

public:
    struct Entry {
        QString title;
        QString about;
        QPixmap picture;
        std::function<void()> choose;
    };
    // All entries that match what has been typed, best first.
    using Source = std::function<std::vector<Entry>(const QString& typed)>;

    explicit PickList(QWidget* parent);

    // Opens at a place in the parent, empty.
    void open(const QString& hint, Source source, QPoint at);
    [[nodiscard]] QLineEdit* line() const { return line_; }

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void filter();
    void choose(int row);
    void giveFocusBack();

    QLineEdit* line_;
    QListWidget* list_;
    QPointer<QWidget> before_;  // had the focus
    Source source_;
    std::vector<Entry> entries_;
};

}  // namespace bramix::app
