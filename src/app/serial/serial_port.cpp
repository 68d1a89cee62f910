#include "app/serial/serial_port.h"

#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QStandardPaths>

#include "app/shell/settings.h"

namespace bramix::app {

namespace {

constexpr int kLookMs = 4;                     // how long a byte from outside may wait
constexpr std::size_t kMostUnsent = 1U << 16U; // bytes that may wait for their turn on the lines: then the program outside does

}  // namespace

SerialPort::SerialPort(Editor& editor, std::string uart, QObject* parent) : QObject(parent), editor_(editor), uart_(std::move(uart))
{
    look_.setInterval(kLookMs);
    connect(&look_, &QTimer::timeout, this, [this] {
        if (endpoint_ == nullptr || editor_.session().unsent() >= kMostUnsent)
            return;
        if (const std::string bytes = endpoint_->read(); !bytes.empty())
            editor_.session().send(uart_, bytes);
    });
}

SerialPort::~SerialPort() { close(); }

bool SerialPort::open(const std::string& where)
{
    close();
    if (!settings::mayOpen(settings::Port::serial)) {
        emit editor_.message(tr("Ports for serial lines are not allowed in the settings: none is opened"), true);
        return false;
    }
    auto endpoint = link::openEndpoint(where);
    if (!endpoint) {
        emit editor_.message(QString::fromStdString(endpoint.error().text()), true);
        return false;
    }
    endpoint_ = std::move(*endpoint);
    name_ = QString::fromStdString(endpoint_->name());
    if (where == "pty") {
        // The terminal's number changes from one time to the next; a link with the bench's name leads to it.
        QString folder = QStandardPaths::writableLocation(QStandardPaths::RuntimeLocation);
        folder = (folder.isEmpty() ? QDir::tempPath() : folder) + "/bramix";
        const QString bench = editor_.file().isEmpty() ? QString("new-bench") : QFileInfo(editor_.folder()).fileName();
        link_ = QString("%1/%2.%3").arg(folder, bench, QString::fromStdString(uart_));
        QDir().mkpath(folder);
        QFile::remove(link_);
        if (QFile::link(name_, link_))
            name_ = link_;
        else
            link_.clear();
    }
    look_.start();
    return true;
}

void SerialPort::close()
{
    look_.stop();
    endpoint_.reset();
    if (!link_.isEmpty())
        QFile::remove(link_);
    link_.clear();
    name_.clear();
}

void SerialPort::write(std::string_view bytes)
{
    if (endpoint_ != nullptr && !bytes.empty()) {
        endpoint_->write(bytes);
        endpoint_->flush();
    }
}

}  // namespace bramix::app
