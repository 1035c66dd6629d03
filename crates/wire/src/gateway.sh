# What runs on the gateway while rules are loaded: POSIX sh, nft, ip. It is read from standard input as a whole before any of it
# runs: a line that is cut leaves a function without its end, or no last line, and so nothing that runs.
# Set before it: mark (what begins each part of an answer), id (of this load), verb, who, seconds.

set -u
umask 077
LC_ALL=C
PATH=/usr/sbin:/sbin:/usr/bin:/bin:/usr/local/sbin:/usr/local/bin
export LC_ALL PATH

run=/run/bastium           # ends with a restart
etc=/etc/bastium           # what a restart reads
kept=/var/lib/bastium      # the last states
names=/etc/dnsmasq.d/bastium.conf
most_kept=5
mine=$run/$id
next=$etc/.next-$id
from=${1:-}                # whoever asks: his address and port, and the gateway's

# --- answers: a line "MARK NAME BYTES", the bytes, a line break ---

say() { # name, file
  [ -f "$2" ] || return 0
  printf '%s %s %s\n' "$mark" "$1" "$(($(wc -c <"$2")))" && cat "$2" && echo
}

tell() { # name, text: printable ASCII
  printf '%s %s %s\n%s\n' "$mark" "$1" "${#2}" "$2"
}

end() { # done, or a reason in one word
  tell end "$1"
  exit 0
}

# --- what runs ---

uptime_now() { # whole seconds since the start, whatever is done to the clock
  read -r up _ </proc/uptime && echo "${up%%.*}"
}

has_table() {
  nft list tables 2>/dev/null | grep -qx 'table inet bastium'
}

# The table without counters, and without what the name server puts into its sets.
listing() {
  if has_table; then
    nft -s list table inet bastium | sed '/^	set domain_/,/^	}/d'
  fi
}

settings() { # of the kernel, that are in the file of the plan
  for key in ipv4.ip_forward ipv4.conf.all.accept_redirects ipv4.conf.all.send_redirects \
    ipv4.conf.all.accept_source_route ipv6.conf.all.forwarding ipv6.conf.all.accept_redirects \
    ipv6.conf.all.accept_source_route; do
    path=/proc/sys/net/$(echo "$key" | tr . /)
    [ -r "$path" ] && echo "net.$key = $(cat "$path")"
  done
  return 0
}

# Sets what a file of "key = value" says, forwarding first: it resets others.
set_settings() { # file
  sed -n 's/^net\.\([a-z0-9_.]*\) = \([0-9][0-9]*\)$/\1 \2/p' "$1" | while read -r key value; do
    path=/proc/sys/net/$(echo "$key" | tr . /)
    [ -w "$path" ] && [ "$(cat "$path")" != "$value" ] && echo "$value" >"$path"
  done
  return 0
}

# --- the lock: a link with its holder in it, so that it is never there without one ---

take_lock() {
  mkdir -p "$run" && chmod 700 "$run" || end no-room
  mkdir "$mine" 2>/dev/null || end twice
  printf '%s\n%s\n%s\n' "$id" "$who" "$(uptime_now)" >"$mine/holder" || { rm -rf "$mine"; end no-room; }
  if ! ln "$mine/holder" "$run/lock" 2>/dev/null; then
    rm -rf "$mine"
    [ -f "$run/lock" ] || end no-room
    say holder "$run/lock"
    end locked
  fi
  for old in "$run"/????????; do
    if [ -d "$old" ] && [ "$old" != "$mine" ]; then rm -rf "$old"; fi
  done
}

own_lock() {
  [ -f "$run/lock" ] && [ "$(head -n 1 "$run/lock")" = "$id" ]
}

give_lock() {
  if own_lock; then rm -f "$run/lock"; fi
}

state() {
  for one in kept confirmed returned returning loading armed holder; do
    if [ -e "$mine/$one" ]; then echo "$one"; return; fi
  done
  echo none
}

# --- steps ---

# What takes over from another gateway, or lets another take over: its rules would be those of one of the two alone.
pair() {
  for one in keepalived conntrackd ucarp; do
    if [ -e "/run/$one.pid" ]; then tell pair "$one"; end pair; fi
  done
}

# What decides about packets beside the rules of nft and is in no listing of it. Says the first such thing: its kind, and what it is.
beside() {
  for one in older programs classifiers policies; do
    found=$("$one" | head -n 1 | head -c 200 | tr -c ' -~\n' '?')
    if [ -n "$found" ]; then
      tell beside "$one $found"
      return
    fi
  done
  return 1
}

# Rules of the kernel's older packet filter.
older() {
  for family in ip ip6; do
    listed=/proc/net/${family}_tables_names
    [ -e "$listed" ] || continue
    tables=$(cat "$listed" 2>/dev/null) || tables=unknown
    [ -n "$tables" ] || continue
    saved=$(older_rules "$family") || saved="${family}tables-save is not there to show them"
    if [ -n "$saved" ]; then printf '%s: %s\n' "$family" "$saved"; fi
  done
}

# Programs at an interface, which see packets before nft does.
programs() {
  ip -o link show 2>/dev/null | sed -n 's/^[0-9]*: \([^:@ ]*\).* mtu [0-9]* \(xdp[a-z]*\) .*/\2 at \1/p'
}

# Filters of tc, but for those that put packets into classes or send them by way of a shaper. Only what has a handle can have some.
classifiers() {
  if ! command -v tc >/dev/null; then
    if grep -q -e '^cls_' -e '^act_' -e '^sch_ingress' /proc/modules 2>/dev/null; then echo "tc is not there to show them"; fi
    return
  fi
  tc qdisc show 2>/dev/null | sed -n 's/^qdisc [^ ]* \([1-9a-f][0-9a-f]*\): dev \([^ ]*\) .*/\1 \2/p' | sort -u |
    while read -r handle device; do
      case $handle in
      ffff) parents='ffff: ffff:fff2 ffff:fff3' ;; # ingress; clsact on the way in, and out
      *) parents=$handle: ;;
      esac
      for parent in $parents; do
        tc filter show dev "$device" parent "$parent" 2>/dev/null | deciding | while read -r line; do
          printf '%s: %s\n' "$device" "$line"
        done
      done
    done
}

deciding() { # what of a listing of tc decides whether packets pass
  sed -n -e '/mirred (Egress Redirect to device ifb/d' -e '/gact action pass/d' -e '/gact action continue/d' \
    -e '/gact action reclassify/d' -e '/random type none/d' -e 's/^.*action order [0-9]*: *//p' \
    -e 's/^[[:space:]]*random type/random type/p' -e '/^filter .* bpf /p' -e '/police 0x/p'
}

# Policies of IPsec that let nothing pass.
policies() {
  ip xfrm policy 2>/dev/null | sed -n -e '/^src /h' -e '/ action block/{x;p;}'
}

# Whatever is in its tables but chains that let all pass: those are there from the first look at them.
older_rules() { # ip or ip6
  for save in "$1tables-legacy-save" "$1tables-save"; do
    case $("$save" -V 2>/dev/null) in
    '' | *nf_tables*) ;;
    *)
      lines=$("$save" 2>&1) || { echo "$save fails"; return; }
      printf '%s\n' "$lines" | grep -v -e '^#' -e '^COMMIT$' -e '^\*[a-z]*$' -e '^:[^ ]* ACCEPT ' -e '^:[^ ]* - '
      return 0
      ;;
    esac
  done
  return 1
}

look() {
  pair
  if beside; then end beside; fi
  take_lock
  trap cut_off HUP INT PIPE TERM
  scratch_away
  uptime_now >"$mine/up" || { leave; end no-room; }
  nft list ruleset >"$mine/ruleset" 2>"$mine/error" || { say error "$mine/error"; leave; end nft; }
  if has_table; then
    nft list table inet bastium >"$mine/table" || { leave; end no-room; }
    nft -a -s list table inet bastium >"$mine/handles" || { leave; end no-room; }
  fi
  listing >"$mine/old.listing" || { leave; end no-room; }
  settings >"$mine/settings" || { leave; end no-room; }
  ip -j address >"$mine/addresses" 2>/dev/null || { leave; end ip; }
  date +%z >"$mine/zone"
  nft --version >"$mine/version" 2>/dev/null
  for one in ruleset table handles old.listing settings addresses zone version up; do say "$one" "$mine/$one"; done
  say loaded.rules "$run/loaded.rules"
  say loaded.listing "$run/loaded.listing"
  newest=$(ls "$kept" 2>/dev/null | sort | tail -n 1)
  if [ -n "$newest" ]; then
    say kept.rules "$kept/$newest/rules.nft"
    say kept.listing "$kept/$newest/listing"
  fi
  say names "$names"
  for one in /etc/systemd/network/*-bastium-* /etc/network/interfaces.d/bastium; do say "file:$one" "$one"; done
  say_connections
  tell connection "$from"
  if command -v dnsmasq >/dev/null; then tell has-dnsmasq yes; fi
  if command -v systemctl >/dev/null && systemctl is-enabled -q bastium-gateway 2>/dev/null; then tell starts yes; fi
  end done
}

say_connections() {
  if [ -r /proc/net/nf_conntrack ]; then
    head -c 8000000 /proc/net/nf_conntrack >"$mine/connections" 2>/dev/null && say connections "$mine/connections"
    rm -f "$mine/connections"
  fi
}

# Nothing was loaded yet: no trace of this load.
leave() {
  give_lock
  rm -rf "$mine" "$next"
}

cut_off() {
  leave
  exit 1
}

scratch_away() {
  nft delete table inet bastium_try 2>/dev/null
  return 0
}

# Takes the files, tries all of them, and that what runs could be restored.
stage() {
  own_lock || end not-locked
  trap cut_off HUP INT PIPE TERM
  mkdir -p "$etc" "$kept" && mkdir -p "$next/state" || { leave; end no-room; }
  files || { leave; end no-room; }
  cp "$mine/rules.nft" "$mine/about" "$next/state" || { leave; end no-room; }
  while read -r one _; do
    cp "$mine/$one" "$next/$one" || { leave; end no-room; }
  done <"$mine/for-restart"
  nft -c -f "$mine/change.nft" 2>"$mine/error" || { say error "$mine/error"; end change-refused; }
  nft -c -f "$mine/rules.nft" 2>"$mine/error" || { say error "$mine/error"; end rules-refused; }
  nft -c -f "$mine/old.nft" 2>"$mine/error" || { say error "$mine/error"; leave; end old-refused; }
  if [ -f "$mine/dnsmasq.conf" ] && command -v dnsmasq >/dev/null; then
    dnsmasq --test -C "$mine/dnsmasq.conf" >"$mine/error" 2>&1 || { say error "$mine/error"; leave; end names-refused; }
  fi
  if [ -f "$mine/bastium" ] && command -v ifquery >/dev/null; then
    ifquery --interfaces "$mine/bastium" --list >/dev/null 2>"$mine/error" ||
      { say error "$mine/error"; leave; end interfaces-refused; }
  fi
  if [ -f "$mine/try.nft" ]; then
    nft --debug=netlink list table inet bastium >"$mine/code.old" 2>/dev/null
    nft -f "$mine/try.nft" 2>"$mine/error" || { say error "$mine/error"; leave; end old-refused; }
    nft --debug=netlink list table inet bastium_try >"$mine/code.try" 2>/dev/null
    scratch_away
    say code.old "$mine/code.old"
    say code.try "$mine/code.try"
    rm -f "$mine/code.old" "$mine/code.try"
  fi
  end done
}

# Starts what brings the old back: twice, so that one of them may be killed.
arm() {
  own_lock || end not-locked
  files || { leave; end no-room; }
  echo "$(($(uptime_now) + seconds))" >"$mine/deadline" || { leave; end no-room; }
  cp "$mine/settings" "$mine/old.settings" || { leave; end no-room; }
  : >"$mine/armed" || { leave; end no-room; }
  for one in 1 2; do
    if command -v setsid >/dev/null; then
      setsid sh "$mine/gateway.sh" "$one" >/dev/null 2>&1 </dev/null &
    elif command -v nohup >/dev/null; then
      nohup sh "$mine/gateway.sh" "$one" >/dev/null 2>&1 </dev/null &
    else
      rm -f "$mine/armed"
      leave
      end no-detach
    fi
  done
  for _ in 1 2 3 4 5 6 7 8; do
    if watched; then end done; fi
    sleep 0.1 2>/dev/null || sleep 1
  done
  rm -f "$mine/armed"
  leave
  end not-armed
}

# Whether both of them run.
watched() {
  for one in 1 2; do
    [ -s "$mine/watch.$one" ] || return 1
    runs=
    # Neither gone, nor ended and not yet buried, nor halted.
    read -r _ _ runs _ 2>/dev/null <"/proc/$(cat "$mine/watch.$one")/stat" || return 1
    case $runs in [ZTX]) return 1 ;; esac
  done
}

# Only while what brings the old back runs, and time is left; and only over what was looked at.
load() {
  own_lock || end not-locked
  if ! watched; then disarm; leave; end not-armed; fi
  if [ "$(($(cat "$mine/deadline") - $(uptime_now)))" -lt 10 ]; then disarm; leave; end late; fi
  listing >"$mine/now.listing" || { disarm; leave; end no-room; }
  if ! cmp -s "$mine/now.listing" "$mine/old.listing"; then disarm; leave; end changed; fi
  mv "$mine/armed" "$mine/loading" 2>/dev/null || end late
  if ! nft -f "$mine/change.nft" 2>"$mine/error"; then
    say error "$mine/error"
    mv "$mine/loading" "$mine/returning" 2>/dev/null && restore
    end load-refused
  fi
  set_settings "$mine/forwarding.conf"
  if ! mv "$mine/loading" "$mine/armed" 2>/dev/null; then restore; end late; fi
  cp "$mine/rules.nft" "$mine/loaded.rules" && listing >"$mine/loaded.listing" &&
    mv "$mine/loaded.rules" "$run/loaded.rules" && mv "$mine/loaded.listing" "$run/loaded.listing" ||
    rm -f "$run/loaded.rules" "$run/loaded.listing"
  end done
}

disarm() {
  rm -f "$mine/armed"
}

reread() {
  beside || :
  nft list ruleset >"$mine/ruleset" 2>"$mine/error" || { say error "$mine/error"; end nft; }
  settings >"$mine/settings.now" || end no-room
  say ruleset "$mine/ruleset"
  say settings "$mine/settings.now"
  tell state "$(state)"
  tell left "$(($(cat "$mine/deadline") - $(uptime_now)))"
  if watched; then tell watched yes; fi
  say_connections
  for one in tcp_timeout_established udp_timeout_stream; do
    say "$one" "/proc/sys/net/netfilter/nf_conntrack_$one"
  done
  end done
}

# What is to be cut once the load is confirmed.
cut() {
  own_lock || end not-locked
  [ "$(state)" = armed ] || { tell state "$(state)"; end too-late; }
  files || { rm -f "$mine/cut.new"; end no-room; }
  nft -c -f "$mine/cut.new" 2>"$mine/error" || { say error "$mine/error"; rm -f "$mine/cut.new"; end cut-refused; }
  mv -f "$mine/cut.new" "$mine/cut.nft" || end no-room
  end done
}

# Settings first: nothing may be passed on by rules that are not there. As often as it takes.
restore() {
  until set_settings "$mine/old.settings"; nft -f "$mine/old.nft" 2>/dev/null; do sleep 1; done
  rm -f "$run/loaded.rules" "$run/loaded.listing"
  : >"$mine/returned"
  rm -rf "$next"
  give_lock
}

# Each of these begins with the same rename, and only one of them succeeds.
confirm() {
  if mv "$mine/armed" "$mine/confirmed" 2>/dev/null; then
    keep
    if [ -e "$mine/names-by-hand" ]; then tell names-by-hand yes; fi
    if [ -e "$mine/not-cut" ]; then tell not-cut yes; fi
    end done
  fi
  tell state "$(state)"
  end too-late
}

back() {
  if mv "$mine/armed" "$mine/returning" 2>/dev/null || mv "$mine/loading" "$mine/returning" 2>/dev/null; then
    restore
    end done
  fi
  if [ "$(state)" = holder ]; then leave; end done; fi
  tell state "$(state)"
  end too-late
}

# The number of the next state: their order may not hang on a clock that is set back.
number() {
  last=$(ls "$kept" 2>/dev/null | sort | tail -n 1)
  last=${last%%-*}
  # Behind those that were named by their day alone.
  case $last in '' | *[!0-9]*) last=900000 ;; esac
  echo "$((last + 1))"
}

# What a restart reads, by renames alone: the room was taken before.
keep() {
  [ -e "$mine/kept" ] && return
  if [ -f "$mine/cut.nft" ] && ! nft -f "$mine/cut.nft" 2>/dev/null; then : >"$mine/not-cut"; fi
  while read -r one folder; do
    if [ "$one" != dnsmasq.conf ] && [ -e "$next/$one" ]; then mkdir -p "$folder" && mv -f "$next/$one" "$folder/$one"; fi
  done <"$mine/for-restart"
  while read -r one; do
    case $one in
    */../* | /*/*/*/*/*) ;;
    /etc/systemd/network/*-bastium-*) rm -f "$one" ;;
    esac
  done <"$mine/gone"
  # Noted first: whoever goes on for a killed one finds the file in its place already.
  if [ -e "$next/dnsmasq.conf" ]; then
    : >"$mine/names-to-read"
    mkdir -p "${names%/*}" && mv -f "$next/dnsmasq.conf" "$names"
  fi
  if [ -e "$mine/names-to-read" ]; then
    names_again
    # Until then it went on with the old names.
    if [ -f "$mine/emptied.nft" ]; then nft -f "$mine/emptied.nft" 2>/dev/null; fi
    rm -f "$mine/names-to-read"
  fi
  if [ -d "$next/state" ]; then
    listing >"$next/state/listing" || rm -f "$next/state/listing"
    mv "$next/state" "$kept/$(number)-$(date -u +%Y%m%dT%H%M%S)-$id" 2>/dev/null
  fi
  rm -rf "$next"
  for old in $(ls "$kept" | sort -r | tail -n "+$((most_kept + 1))"); do rm -rf "${kept:?}/$old"; done
  : >"$mine/kept"
  give_lock
}

# The name server reads its file only when it starts.
names_again() {
  if command -v systemctl >/dev/null && systemctl is-active -q dnsmasq 2>/dev/null; then
    systemctl restart dnsmasq >/dev/null 2>&1 </dev/null && return
  elif [ -x /etc/init.d/dnsmasq ]; then
    /etc/init.d/dnsmasq restart >/dev/null 2>&1 </dev/null && return
  fi
  : >"$mine/names-by-hand"
}

# What runs, for whoever only looks.
peek() {
  if beside; then end beside; fi
  mine=$(mktemp -d) || end no-room
  nft list ruleset >"$mine/ruleset" 2>"$mine/error" || { say error "$mine/error"; rm -rf "$mine"; end nft; }
  say ruleset "$mine/ruleset"
  rm -rf "$mine"
  end done
}

status() {
  if [ -f "$run/lock" ]; then
    say holder "$run/lock"
    id=$(head -n 1 "$run/lock")
    mine=$run/$id
    tell state "$(state)"
    [ -f "$mine/deadline" ] && tell left "$(($(cat "$mine/deadline") - $(uptime_now)))"
    if watched; then tell watched yes; fi
  fi
  uptime_now >/dev/null && tell up "$(uptime_now)"
  for one in $(ls "$kept" 2>/dev/null | sort -r); do tell kept-state "$one"; done
  end done
}

# --- what brings the old back, by itself ---

watch() { # 1, or 2 that waits a little longer
  trap '' HUP
  echo $$ >"$mine/watch.$1"
  deadline=$(($(cat "$mine/deadline") + ($1 - 1) * 3))
  while [ "$(uptime_now)" -lt "$deadline" ]; do
    case $(state) in
    armed | loading) ;;
    confirmed) go_on "$1"; exit ;;
    returning) break ;;
    *) exit ;;
    esac
    sleep 1
  done
  case $(state) in
  armed | loading)
    mv "$mine/armed" "$mine/returning" 2>/dev/null || mv "$mine/loading" "$mine/returning" 2>/dev/null
    ;;
  esac
  case $(state) in
  returning) restore; after_return ;;
  confirmed) go_on "$1" ;;
  esac
}

# Whoever confirmed may have been killed since: the first of the two goes on for him, the second for the first.
go_on() { # 1 or 2
  patience=10
  if [ "$1" = 2 ]; then patience=40; fi
  while [ "$patience" -gt 0 ] && [ "$(state)" = confirmed ]; do
    sleep 1
    patience=$((patience - 1))
  done
  if [ "$(state)" = confirmed ]; then keep; fi
}

# Somebody who was about to load when the time ran out may still do it: then once more.
after_return() {
  for _ in 1 2 3; do
    sleep 1
    [ -f "$run/lock" ] && return
    [ "$(listing)" = "$(cat "$mine/old.listing")" ] || nft -f "$mine/old.nft" 2>/dev/null
  done
}

main() {
  case $verb in
  leave)
    own_lock || end not-locked
    [ "$(state)" = holder ] || end too-late
    leave
    end done
    ;;
  look | stage | arm | load | reread | cut | confirm | back | status | peek) "$verb" ;;
  watch) watch "$1" ;;
  esac
}
