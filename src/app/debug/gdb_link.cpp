#include "app/debug/gdb_link.h"

#include "app/shell/settings.h"

namespace bramix::app {

namespace {

constexpr std::uint16_t kUsualPort = 3451;
constexpr int kLookMs = 4;

}  // namespace

GdbLink::GdbLink(Editor& editor, QObject* parent) : QObject(parent), editor_(editor)
{
    timer_.setTimerType(Qt::PreciseTimer);
    connect(&timer_, &QTimer::timeout, this, &GdbLink::look);
}

void GdbLink::open()
{
    if (!settings::mayOpen(settings::Port::gdb)) {
        emit editor_.message(tr("Ports for GDB are not allowed in the settings: no port is opened"), true);
        return;
    }
    auto listener = link::Listener::open(kUsualPort);
    if (!listener)
        listener = link::Listener::open(0);
    if (!listener) {
        emit editor_.message(QString::fromStdString(listener.error().text()), true);
        return;
    }
    listener_ = std::move(*listener);
    timer_.start(kLookMs);
    emit editor_.message(tr("gdb may come in: target remote 127.0.0.1:%1").arg(port()), false);
}

void GdbLink::close()
{
    timer_.stop();
    if (there_)
        editor_.session().gdbGone();
    there_ = false;
    listener_.reset();
    emit editor_.message(tr("The port for gdb is closed"), false);
}

void GdbLink::look()
{
    const bool connected = listener_->connected();
    if (connected && listener_->isNew()) {
        there_ = true;
        editor_.session().gdbCame();
        emit editor_.message(tr("A debugger is connected; it decides what runs"), false);
    }
    if (connected)
        if (const std::string bytes = listener_->read(); !bytes.empty())
            editor_.session().gdbBytes(bytes);
    bool left = false;
    if (const std::string out = editor_.session().takeGdb(left); !out.empty())
        listener_->write(out);
    if (left)
        listener_->disconnect();
    if (there_ && !listener_->connected()) {
        there_ = false;
        if (!left)
            editor_.session().gdbGone();
        emit editor_.message(tr("The debugger has gone"), false);
    }
}

}  // namespace bramix::app
