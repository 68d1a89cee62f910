// What a window test sees of all that opens: each word has contrast against its own ground, none is cut, and what opens lies on the screen.
// With BRAMIX_PICTURES set to a folder each thing is kept there as a picture.
#pragma once

#include <QtTest>

#include <QAbstractButton>
#include <QAbstractItemView>
#include <QApplication>
#include <QComboBox>
#include <QLabel>
#include <QMenu>
#include <QPointer>
#include <QTimer>

#include "contrast.h"

namespace bramix::test {

class Legibility {
public:
    static constexpr double kText = 4.5, kDisabled = 2.5;  // WCAG 2.1, 1.4.3; what cannot be used need only be seen

    explicit Legibility(QString look) : look_(std::move(look)) {}

    [[nodiscard]] int opened() const { return opened_; }
    [[nodiscard]] QStringList faults() const
    {
        QStringList once = faults_;
        once.removeDuplicates();
        return once;
    }

    void fault(const QString& where, const QString& what) { faults_ << where + ": " + what; }

    void keep(const QString& name, QWidget* w)
    {
        ++opened_;
        if (const QString folder = qEnvironmentVariable("BRAMIX_PICTURES"); !folder.isEmpty())
            w->grab().save(QString("%1/%2 %3.png").arg(folder, look_, QString(name).replace('/', '-')));
    }

    void onTheScreen(const QString& name, const QWidget* w)
    {
        const QRect screen = w->screen()->availableGeometry();
        if (screen.height() < 700)
            return;  // at twice the size the test's screen is smaller than any that people have
        if (!screen.contains(QRect(w->mapToGlobal(QPoint(0, 0)), w->size())))
            fault(name, QString("lies at %1,%2 with %3x%4 on a screen of %5x%6").arg(w->x()).arg(w->y()).arg(w->width()).arg(w->height()).arg(screen.width()).arg(screen.height()));
    }

    // A menu and all of its own.
    void look(const QString& name, QMenu* menu)
    {
        if (menu->actions().isEmpty())
            return fault(name, "is empty");
        keep(name, menu);
        onTheScreen(name, menu);
        const QImage image = imageOf(menu);
        const double scale = image.devicePixelRatio();
        for (QAction* row : menu->actions()) {
            if (row->isSeparator())
                continue;
            if (row->text().isEmpty())
                fault(name, "has a row without words");
            const QRect box = menu->actionGeometry(row);
            const double c = contrastIn(image.copy(QRectF(box.x() * scale, box.y() * scale, box.width() * scale, box.height() * scale).toRect().adjusted(2, 2, -2, -2)));
            if (c < (row->isEnabled() ? kText : kDisabled))
                fault(name, QString("\"%1\" has a contrast of %2").arg(row->text()).arg(c, 0, 'f', 1));
        }
        for (QAction* row : menu->actions())
            if (row->menu() != nullptr && row->isEnabled()) {
                row->menu()->popup(menu->mapToGlobal(QPoint(menu->width() - 8, menu->actionGeometry(row).top())));
                QTest::qWait(10);
                look(name + "-" + row->text(), row->menu());
                row->menu()->hide();
            }
    }

    // What `act` opens, whether it waits for an answer or not.
    void opens(const QString& name, const std::function<void()>& act)
    {
        bool seen = false;
        const auto look = [&] {
            if (seen)
                return;
            if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
                seen = true;
                this->look(name, menu);
                menu->close();
            }
        };
        QTimer soon;
        soon.setSingleShot(true);
        QObject::connect(&soon, &QTimer::timeout, look);
        soon.start(60);
        act();
        QTest::qWait(90);
        look();
        if (!seen)
            fault(name, "opens nothing");
        if (QWidget* left = QApplication::activePopupWidget())
            left->close();
        QTest::qWait(5);
    }

    // Drop-downs that can be seen just now.
    void dropDowns(const QString& where, QWidget* root)
    {
        // Rows of the inspector are made anew while one waits.
        QList<QPointer<QComboBox>> boxes;
        for (QComboBox* box : root->findChildren<QComboBox*>())
            boxes << box;
        for (const QPointer<QComboBox>& box : boxes) {
            if (box.isNull() || !box->isVisible() || !box->isEnabled())
                continue;
            const QString name = where + " " + (box->objectName().isEmpty() ? box->accessibleName() : box->objectName());
            box->showPopup();
            QTest::qWait(20);
            if (box.isNull())
                continue;
            QWidget* list = box->view()->window();
            keep(name, list);
            onTheScreen(name, list);
            const QImage image = imageOf(box->view()->viewport());
            const double scale = image.devicePixelRatio();
            for (int i = 0; i < box->count(); ++i) {
                const QRect r = box->view()->visualRect(box->model()->index(i, 0));
                if (!box->view()->viewport()->rect().contains(r) || box->itemText(i).isEmpty())
                    continue;
                if (const double c = contrastIn(image.copy(QRectF(r.x() * scale, r.y() * scale, r.width() * scale, r.height() * scale).toRect().adjusted(2, 2, -2, -2))); c < kText)
                    fault(name, QString("\"%1\" has a contrast of %2").arg(box->itemText(i)).arg(c, 0, 'f', 1));
                if (box->fontMetrics().horizontalAdvance(box->itemText(i)) > r.width())
                    fault(name, QString("\"%1\" is cut").arg(box->itemText(i)));
            }
            box->hidePopup();
            QTest::qWait(5);
        }
    }

    // Words that are longer than the room they have.
    void words(const QString& where, QWidget* root)
    {
        for (QLabel* label : root->findChildren<QLabel*>()) {
            if (!label->isVisible() || label->wordWrap() || label->text().isEmpty() || label->textFormat() == Qt::RichText || label->text().startsWith('<') || !label->pixmap().isNull())
                continue;
            if (label->sizeHint().width() > label->width() + 1)
                fault(where, QString("\"%1\" needs %2 and has %3").arg(label->text()).arg(label->sizeHint().width()).arg(label->width()));
        }
        for (QAbstractButton* b : root->findChildren<QAbstractButton*>())
            if (b->isVisible() && !b->text().isEmpty() && b->fontMetrics().horizontalAdvance(QString(b->text()).remove('&')) > b->width())
                fault(where, QString("the button \"%1\" needs %2 and has %3").arg(b->text()).arg(b->fontMetrics().horizontalAdvance(b->text())).arg(b->width()));
    }

    // Every label and button that shows words.
    void legible(const QString& where, QWidget* root)
    {
        const QImage image = imageOf(root);
        const double scale = image.devicePixelRatio();
        const auto see = [&](QWidget* w, const QString& words) {
            if (!w->isVisible() || words.trimmed().isEmpty() || w->width() < 8 || w->height() < 8)
                return;
            const QRect box = QRect(w->mapTo(root, QPoint(0, 0)), w->size()) & root->rect();
            if (w->visibleRegion().boundingRect().size() != w->size() || box.isEmpty())
                return;  // scrolled away in part
            const QWidget* top = root->childAt(box.center());
            if (top != w && !w->isAncestorOf(top))
                return;  // something lies over it
            const double c = contrastIn(image.copy(QRectF(box.x() * scale, box.y() * scale, box.width() * scale, box.height() * scale).toRect().adjusted(1, 1, -1, -1)));
            if (c < (w->isEnabled() ? kText : kDisabled))
                fault(where, QString("\"%1\" has a contrast of %2").arg(words.left(60)).arg(c, 0, 'f', 1));
        };
        for (QLabel* label : root->findChildren<QLabel*>())
            if (label->pixmap().isNull())
                see(label, label->text());
        for (QAbstractButton* button : root->findChildren<QAbstractButton*>())
            see(button, button->text());
    }

    // A dialog that `act` opens and waits for; it is closed without an answer.
    void dialog(const QString& name, const std::function<void()>& act)
    {
        bool seen = false;
        QTimer soon;
        soon.setInterval(60);
        QObject::connect(&soon, &QTimer::timeout, [&] {
            auto* shown = qobject_cast<QDialog*>(QApplication::activeModalWidget());
            if (shown == nullptr)
                return;
            if (!seen) {
                seen = true;
                keep(name, shown);
                onTheScreen(name, shown);
                words(name, shown);
                legible(name, shown);
                dropDowns(name, shown);
            }
            shown->reject();
        });
        soon.start();
        act();
        for (int i = 0; i < 10 && !seen; ++i)
            QTest::qWait(30);
        if (!seen)
            fault(name, "opens nothing");
    }

private:
    // Of the colour that most of a picture has, and the one in it that is farthest from that.
    static double contrastIn(const QImage& picture)
    {
        std::map<QRgb, int> counts;
        for (int y = 0; y < picture.height(); ++y)
            for (int x = 0; x < picture.width(); ++x)
                ++counts[picture.pixel(x, y)];
        if (counts.empty())
            return 1;
        const QColor ground(std::max_element(counts.begin(), counts.end(), [](const auto& a, const auto& b) { return a.second < b.second; })->first);
        double most = 1;
        for (const auto& [color, n] : counts)
            most = std::max(most, contrast(ground, QColor(color)));
        return most;
    }

    static QImage imageOf(QWidget* w)
    {
        return w->grab().toImage().convertToFormat(QImage::Format_RGB32);
    }

    QString look_;
    QStringList faults_;
    int opened_ = 0;
};

}  // namespace bramix::test
