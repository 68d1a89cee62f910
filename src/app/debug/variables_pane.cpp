#include "app/debug/variables_pane.h"

#include <QHeaderView>
#include <QMenu>
#include <QMimeData>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "app/tape/tape_view.h"

namespace bramix::app {

namespace {

constexpr int kExpression = Qt::UserRole, kWritable = Qt::UserRole + 1, kLocals = Qt::UserRole + 2;
constexpr int kNameWidth = 118;

QString laneOf(const Editor& editor, const QString& expression, bool local)
{
    const session::DebugPicture& debug = editor.picture().debug;
    const QString name = local && debug.frame < debug.frames.size() ? QString("%1 in %2").arg(expression, QString::fromStdString(debug.frames[debug.frame].function)) : expression;
    return QString("variable %1 %2").arg(QString::fromStdString(debug.chip), name);
}

bool isLocal(const QTreeWidgetItem* item)
{
    while (item->parent() != nullptr)
        item = item->parent();
    return item->data(0, kLocals).toBool();
}

// Its rows can be drawn to the tape.
class VariableTree : public QTreeWidget {
public:
    explicit VariableTree(Editor& editor) : editor_(editor)
    {
        setDragEnabled(true);
        setDragDropMode(QAbstractItemView::DragOnly);
    }

protected:
    [[nodiscard]] QStringList mimeTypes() const override { return {kLanesMime}; }
    [[nodiscard]] QMimeData* mimeData(const QList<QTreeWidgetItem*>& items) const override
    {
        QByteArray lanes;
        for (const QTreeWidgetItem* item : items)
            if (item->parent() != nullptr)
                lanes += laneOf(editor_, item->data(0, kExpression).toString(), isLocal(item)).toUtf8() + '\n';
        auto* what = new QMimeData;
        what->setData(kLanesMime, lanes);
        return what;
    }

private:
    Editor& editor_;
};

}  // namespace

VariablesPane::VariablesPane(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    tree_ = new VariableTree(editor_);
    tree_->setObjectName("variables");
    tree_->setAccessibleName(tr("Variables"));
    tree_->setColumnCount(2);
    tree_->header()->hide();
    tree_->header()->resizeSection(0, kNameWidth);
    tree_->setIndentation(14);
    tree_->setUniformRowHeights(true);
    tree_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    tree_->setFocusPolicy(Qt::ClickFocus);
    tree_->setContextMenuPolicy(Qt::CustomContextMenu);
    tree_->setFont(theme::figures(8.8));
    field_ = new QLineEdit;
    field_->setObjectName("watchField");
    field_->setAccessibleName(tr("Watch an expression"));
    field_->setFont(theme::figures(8.8));
    field_->setPlaceholderText(tr("Watch: gates[0].cm, PORTB & 7 …"));
    rows->addWidget(tree_, 1);
    rows->addWidget(field_);
    const auto section = [&](const QString& name) {
        auto* item = new QTreeWidgetItem(tree_, {name});
        item->setFirstColumnSpanned(true);
        item->setFont(0, theme::words(8.2, QFont::DemiBold));
        item->setForeground(0, theme::muted());
        item->setFlags(Qt::ItemIsEnabled);
        item->setExpanded(true);
        return item;
    };
    watches_ = section(tr("Watched"));
    locals_ = section(tr("Locals"));
    locals_->setData(0, kLocals, true);
    globals_ = section(tr("Globals"));
    connect(field_, &QLineEdit::returnPressed, this, [this] {
        const std::string expression = field_->text().trimmed().toStdString();
        if (expression.empty())
            return;
        field_->clear();
        editor_.change(tr("watch"), [&](bench::Document& d) {
            bench::WatchItem w;
            w.expression = expression;
            d.watches.push_back(std::move(w));
        });
    });
    connect(tree_, &QTreeWidget::itemDoubleClicked, this, [this](QTreeWidgetItem* item, int) {
        if (!item->data(0, kWritable).toBool())
            return;
        item->setFlags(item->flags() | Qt::ItemIsEditable);
        tree_->editItem(item, 1);
    });
    connect(tree_, &QTreeWidget::itemChanged, this, [this](QTreeWidgetItem* item, int column) {
        if (filling_ || column != 1)
            return;
        item->setFlags(item->flags() & ~Qt::ItemIsEditable);
        editor_.session().assign(item->data(0, kExpression).toString().toStdString(), item->text(1).toStdString());
    });
    connect(tree_, &QWidget::customContextMenuRequested, this, &VariablesPane::menu);
}

void VariablesPane::fill(QTreeWidgetItem* parent, const std::vector<session::VariablePicture>& variables)
{
    while (parent->childCount() > static_cast<int>(variables.size()))
        delete parent->takeChild(parent->childCount() - 1);
    for (std::size_t i = 0; i < variables.size(); ++i) {
        const session::VariablePicture& v = variables[i];
        QTreeWidgetItem* item = parent->child(static_cast<int>(i));
        if (item == nullptr)
            item = new QTreeWidgetItem(parent);
        const QString name = QString::fromStdString(v.name), value = QString::fromStdString(v.value);
        if (item->flags().testFlag(Qt::ItemIsEditable) && item->text(0) == name && tree_->isPersistentEditorOpen(item, 1))
            continue;
        if (item->text(0) != name) {
            item->setText(0, name);
            item->setExpanded(false);
        }
        if (item->text(1) != value)
            item->setText(1, value);
        item->setToolTip(0, QString::fromStdString(v.type));
        item->setToolTip(1, v.known ? QString("%1\n%2").arg(value, QString::fromStdString(v.type)) : value);
        item->setData(0, kExpression, QString::fromStdString(v.expression));
        item->setData(0, kWritable, v.writable);
        item->setForeground(0, theme::ink());
        item->setForeground(1, !v.known ? theme::muted() : v.changed ? theme::bramble() : theme::ink());
        const QBrush ground = v.changed ? QBrush(theme::changed()) : QBrush();
        item->setBackground(0, ground);
        item->setBackground(1, ground);
        QFont font = theme::figures(8.8);
        font.setItalic(!v.known);
        item->setFont(1, font);
        fill(item, v.inner);
    }
}

void VariablesPane::refresh(const session::DebugPicture& debug)
{
    // Sixty pictures come a second, and most are alike.
    if (debug.watches == watched_ && debug.locals == local_ && debug.globals == global_ && debug.standing == standing_)
        return;
    watched_ = debug.watches;
    local_ = debug.locals;
    global_ = debug.globals;
    standing_ = debug.standing;
    filling_ = true;
    watches_->setHidden(debug.watches.empty());
    fill(watches_, debug.watches);
    locals_->setText(0, debug.standing && debug.frame < debug.frames.size() ? tr("Locals of %1").arg(QString::fromStdString(debug.frames[debug.frame].function)) : tr("Locals"));
    locals_->setHidden(!debug.standing || debug.locals.empty());
    fill(locals_, debug.locals);
    globals_->setHidden(debug.globals.empty());
    fill(globals_, debug.globals);
    filling_ = false;
}

void VariablesPane::menu(const QPoint& at)
{
    QTreeWidgetItem* item = tree_->itemAt(at);
    if (item == nullptr || item->parent() == nullptr)
        return;
    const std::string expression = item->data(0, kExpression).toString().toStdString();
    const session::DebugPicture& debug = editor_.picture().debug;
    const bool local = isLocal(item) && debug.frame < debug.frames.size();
    const std::string function = local ? debug.frames[debug.frame].function : std::string();
    QMenu menu;
    menu.addAction(tr("Back to its last change"), [&] { editor_.session().backToChange(expression + (local ? " in " + function : std::string())); });
    menu.addAction(tr("Toggle on the tape"), [&] { editor_.toggleRead(laneOf(editor_, QString::fromStdString(expression), local).toStdString()); });
    menu.addAction(tr("Stop when it changes"), [&] {
        editor_.change(tr("stop"), [&](bench::Document& d) {
            bench::StopItem s;
            s.at = "change " + expression + (local ? " in " + function : std::string());
            d.stops.push_back(std::move(s));
        });
    });
    menu.addSeparator();
    const bool watched = item->parent() == watches_;
    if (watched)
        menu.addAction(tr("Stop watching"), [&] {
            editor_.change(tr("stop watching"), [&](bench::Document& d) { std::erase_if(d.watches, [&](const bench::WatchItem& w) { return w.expression == expression; }); });
        });
    const auto as = [&](const QString& label, const char* radix) {
        menu.addAction(label, [this, expression, radix] {
            editor_.change(tr("watch"), [&](bench::Document& d) {
                for (bench::WatchItem& w : d.watches)
                    if (w.expression == expression) {
                        w.radix = radix;
                        return;
                    }
                bench::WatchItem w;
                w.expression = expression;
                w.radix = radix;
                d.watches.push_back(std::move(w));
            });
        });
    };
    as(watched ? tr("As it comes") : tr("Watch"), "");
    as(tr("As hexadecimal"), "hex");
    as(tr("As binary"), "binary");
    as(tr("As decimal"), "decimal");
    as(tr("As character"), "character");
    menu.exec(tree_->viewport()->mapToGlobal(at));
}

}  // namespace bramix::app
