#include "core.h"

namespace tern {

bool Ring::put(Duration duration) {
  if (waiting() == kRing - 1) {
    overflowed_ = true;
    return false;
  }
  values_[head_ & (kRing - 1)] = duration;
  head_ = static_cast<uint8_t>(head_ + 1);
  return true;
}

bool Ring::take(Duration *duration) {
  if (waiting() == 0) return false;
  *duration = values_[tail_ & (kRing - 1)];
  tail_ = static_cast<uint8_t>(tail_ + 1);
  return true;
}

bool Ring::overflowed() {
  const bool was = overflowed_;
  overflowed_ = false;
  return was;
}

static uint8_t step(uint8_t crc, char c) {
  crc ^= static_cast<uint8_t>(c);
  for (uint8_t bit = 0; bit < 8; ++bit) crc = static_cast<uint8_t>(crc & 0x80 ? crc << 1 ^ 0x07 : crc << 1);
  return crc;
}

uint8_t checksum(const char *text, uint16_t length) {
  uint8_t crc = 0;
  while (length--) crc = step(crc, *text++);
  return crc;
}

namespace {

// Appends to a buffer and remembers if it was too small.
struct Writer {
  char *out;
  uint16_t room, size;
  bool full;

  void put(char c) {
    if (size < room) {
      out[size++] = c;
    } else {
      full = true;
    }
  }
  void text(const char *words) {
    while (*words) put(*words++);
  }
  void number(uint32_t value) {
    char digits[10];
    uint8_t n = 0;
    do {
      digits[n++] = static_cast<char>('0' + value % 10);
      value /= 10;
    } while (value);
    while (n) put(digits[--n]);
  }
  void hex(uint8_t value) {
    const char *digits = "0123456789abcdef";
    put(digits[value >> 4]);
    put(digits[value & 15]);
  }
};

}  // namespace

uint16_t write_line(const Duration *durations, uint8_t count, uint8_t number, char *out, uint16_t room) {
  Writer writer = {out, room, 0, false};
  for (uint8_t i = 0; i < count; ++i) {
    const Duration d = durations[i];
    if (i) writer.put(' ');
    writer.put(d < 0 ? '-' : '+');
    writer.number(static_cast<uint32_t>(d < 0 ? -d : d));
  }
  writer.text(" # ");
  writer.number(number);
  const uint8_t crc = checksum(out, writer.size);
  writer.put(' ');
  writer.hex(crc);
  writer.put('\n');
  return writer.full ? 0 : writer.size;
}

uint16_t write_hello(const char *name, uint8_t tick_us, char *out, uint16_t room) {
  Writer writer = {out, room, 0, false};
  writer.text("# tern-recorder ");
  writer.number(kVersion);
  writer.text(" tick ");
  writer.number(tick_us);
  writer.text(" us, ");
  writer.text(name);
  const uint8_t crc = checksum(out, writer.size);
  writer.text(" # ");
  writer.hex(crc);
  writer.put('\n');
  return writer.full ? 0 : writer.size;
}

void Orders::begin() {
  crc_ = at_sum_ = told_ = digits_ = 0;
  first_ = 0;
  comment_ = in_number_ = negative_ = bad_ = has_carrier_ = false;
  number_ = 0;
}

void Orders::number_ends() {
  if (!in_number_) return;
  in_number_ = false;
  if (number_ == 0 || number_ > kLongest) {
    bad_ = true;
  } else if (!has_carrier_) {
    has_carrier_ = true;
    carrier_ = number_;
    count_ = 0;
  } else if (count_ == kMostToSend || negative_ != (count_ % 2 == 1)) {
    bad_ = true;  // too many, or marks and spaces do not take turns
  } else {
    values_[count_++] = negative_ ? -static_cast<Duration>(number_) : static_cast<Duration>(number_);
  }
}

Order Orders::feed(char c) {
  if (c == '\r') return kNothing;
  if (c == '\n') {
    const Order order = line_end();
    begin();
    return order;
  }
  if (!first_) first_ = c;
  if (comment_) {
    const bool decimal = c >= '0' && c <= '9', letter = c >= 'a' && c <= 'f';
    if (decimal || letter) {
      told_ = static_cast<uint8_t>(told_ << 4 | (decimal ? c - '0' : c - 'a' + 10));
      ++digits_;
    } else if (c != ' ') {
      bad_ = true;
    }
    return kNothing;
  }
  if (c == '#') {
    number_ends();
    comment_ = true;
    return kNothing;
  }
  // The checksum is that of what stands before " #".
  if (c != ' ') {
    crc_ = at_sum_;
    crc_ = step(crc_, c);
    at_sum_ = crc_;
  } else {
    at_sum_ = step(at_sum_, c);
  }
  if (c >= '0' && c <= '9') {
    if (!in_number_) number_ = 0;
    in_number_ = true;
    if (number_ > kLongest) bad_ = true;
    number_ = number_ * 10 + static_cast<uint32_t>(c - '0');
  } else {
    number_ends();
    if (c == '+' || c == '-') negative_ = c == '-';
  }
  return kNothing;
}

Order Orders::line_end() {
  if (!first_) return kNothing;
  if (first_ == '?') return kHello;
  if (first_ != '!' || bad_ || !comment_ || digits_ != 2 || told_ != crc_) return kBad;
  return count_ % 2 == 1 ? kSend : kBad;
}

}  // namespace tern
