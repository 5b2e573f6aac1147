#include "target/functions.h"

#include <algorithm>
#include <map>
#include <set>

namespace mt {

FunctionTable::FunctionTable() {
    functions_.push_back({"code without a name", {}, 0, 0, Code::kNowhere, Code::kNowhere, 0});
}

std::shared_ptr<const FunctionTable> FunctionTable::of(const Image& image, const Code& code, std::span<const ProcessImage> processes) {
    auto table = std::make_shared<FunctionTable>();
    table->of_slot_.assign(code.slot_count(), 0);
    table->add_image(image, code, [&code](std::uint64_t address) { return code.slot_of(address); });
    for (const ProcessImage& p : processes)
        table->add_image(*p.image, code, [&](std::uint64_t address) { return p.slot_of(code, address); });
    return table;
}

void FunctionTable::add_image(const Image& image, const Code& code, const std::function<std::uint32_t(std::uint64_t)>& slot_of) {
    // Of several names for one address the first stands; a size of 0 reaches to the next function, unless it is only
    // another way into one that has a size.
    std::map<std::string, std::uint32_t> files;
    const auto place = [&](Function& f, std::uint64_t address) {
        const auto line = image.line_at(address);
        if (!line) return;
        f.file = line->file;
        f.line = line->line;
        f.file_index = files.try_emplace(f.file, static_cast<std::uint32_t>(files.size())).first->second;
    };
    std::vector<const Symbol*> named;
    for (const Symbol& s : image.symbols())
        if (s.function && slot_of(s.address) != Code::kNowhere &&
            (named.empty() || named.back()->address != s.address || named.back()->size == 0)) {
            if (!named.empty() && named.back()->address == s.address) named.pop_back();
            const bool inside = s.size == 0 && !named.empty() && s.address < named.back()->address + named.back()->size;
            if (!inside) named.push_back(&s);
        }
    for (std::size_t i = 0; i < named.size(); ++i) {
        const Symbol& s = *named[i];
        Function f;
        f.name = s.name;
        f.address = s.address;
        f.entry = slot_of(s.address);
        const std::uint64_t next = i + 1 < named.size() ? named[i + 1]->address : ~std::uint64_t{0};
        f.end = f.entry;
        // Not beyond the piece of code that it stands in.
        const std::uint64_t limit = s.size != 0 ? s.address + s.size : next;
        for (std::uint64_t at = s.address; at < limit && slot_of(at) == f.end; at += 2) ++f.end;
        place(f, s.address);
        add(std::move(f));
    }
    // Hand-written code has labels only: each names what follows, up to the next name.
    std::set<std::uint64_t> labels;
    for (const Symbol& s : image.symbols()) {
        const std::uint32_t slot = slot_of(s.address);
        if (s.label && slot != Code::kNowhere && code[slot].flow != Flow::none && of_slot_[slot] == 0 &&
            s.name.front() != '$')
            labels.insert(s.address);
    }
    for (const Symbol& s : image.symbols()) {
        const auto at = s.label && s.name.front() != '$' ? labels.find(s.address) : labels.end();
        if (at == labels.end()) continue;
        Function f;
        f.name = s.name;
        f.address = s.address;
        f.entry = f.end = slot_of(s.address);
        const std::uint64_t next = std::next(at) == labels.end() ? ~std::uint64_t{0} : *std::next(at);
        for (std::uint64_t a = s.address; a < next && slot_of(a) == f.end && of_slot_[f.end] == 0; a += 2)
            ++f.end;
        if (f.end == f.entry) continue;  // a second name for the same place
        place(f, s.address);
        add(std::move(f));
    }
}

std::shared_ptr<const FunctionTable> FunctionTable::of(const std::vector<Function>& functions, const Code& code) {
    auto table = std::make_shared<FunctionTable>();
    table->of_slot_.assign(code.slot_count(), 0);
    for (const Function& f : functions) table->add(f);
    return table;
}

void FunctionTable::add(Function f) {
    const auto index = static_cast<std::uint32_t>(functions_.size());
    for (std::uint32_t slot = f.entry; slot < f.end && slot < of_slot_.size(); ++slot) of_slot_[slot] = index;
    functions_.push_back(std::move(f));
}

}  // namespace mt
