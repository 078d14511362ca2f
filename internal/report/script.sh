set -u
LC_ALL=C
export LC_ALL
umask 077

if [ "$#" -ne 2 ] || { [ "$1" != do ] && [ "$1" != undo ]; }; then
  echo "usage: sh $0 do FOLDER      keeps the originals in FOLDER, and changes" >&2
  echo "       sh $0 undo FOLDER    puts back what was changed" >&2
  exit 2
fi
way=$1
kept=$2
if [ "$way" = do ]; then
  mkdir -- "$kept" || exit 1
  : >"$kept/originals" || exit 1
else
  [ -f "$kept/originals" ] || { echo "$kept holds no originals" >&2; exit 1; }
fi
kept=$(cd -- "$kept" && pwd) || exit 1
left=0
done=0
chosen=" "

# within PATH KIND: goes into the folder that holds the path, by no link, and opens what lies there as descriptor 4; at is then what to
# change. Whatever is done to the names afterwards, what is looked at and changed is that. A link cannot be opened: it is looked at by its name.
within() {
  f=${1%/*}
  n=./${1##*/}
  [ "$n" != ./ ] || n=.
  cd -P -- "${f:-/}" 2>/dev/null || return 1
  [ "$(pwd -P; echo .)" = "${f:-/}
." ] || return 1
  [ "$(kind "$n")" = "$2" ] || return 1
  at=$n
  [ "$2" != link ] || return 0
  command exec 4<"$n" || return 1
  at=/proc/self/fd/4
  [ "$(kind "$at/." "$at")" = "$2" ] || return 1
  [ "$(stat -c '%d:%i' -- "$n")" = "$(stat -L -c '%d:%i' -- "$at")" ]
}

# now KIND: how the path at hand is, in one line.
now() {
  if [ "$1" = link ]; then
    stat -c '%u:%g' -- "$at"
    return
  fi
  o=$(stat -L -c '%u:%g' -- "$at") || return 1
  m=$(stat -L -c '%a' -- "$at") || return 1
  if [ "$lists" = no ]; then
    echo "$o $m"
    return
  fi
  a=$(getfacl -cnpE -- "$at" | grep -v -e '^default:' -e '^$' | paste -s -d , -)
  d=$(getfacl -cnpE -- "$at" | sed -n 's/^default://p' | paste -s -d , -)
  c=$(getfattr --absolute-names --only-values -e hex -n security.capability -- "$at" 2>/dev/null | od -An -v -tx1 | tr -d ' \n')
  echo "$o $m $a ${d:--} ${c:+0x}${c:--}"
}

# kind PATH [OPENED]: what lies there; of what was opened, what it is.
kind() {
  if [ "$#" -gt 1 ]; then
    if [ -d "$2" ]; then echo folder; elif [ -f "$2" ]; then echo file; else echo other; fi
  elif [ -L "$1" ]; then echo link; elif [ -d "$1" ]; then echo folder; elif [ -f "$1" ]; then echo file; elif [ -e "$1" ]; then echo other; else echo nothing; fi
}

# same KIND: which file the path at hand is.
same() {
  if [ "$1" = link ]; then stat -c '%d:%i' -- "$at"; else stat -L -c '%d:%i' -- "$at"; fi
}

say() {
  left=$((left + 1))
  printf '%s: ' "$1"
  printf '%s\n' "$2" | od -An -v -c | sed 's/^ *//' | tr -d '\n' | sed 's/ *\\n$//; s/   *//g'
  echo
}

# k NUMBER PATH KIND BEFORE AFTER INODE CONTENT READ: keeps the original, if the path is the file that was reviewed, in the state that was.
k() {
  want=$4
  of=
  if [ "$way" = undo ]; then
    of=$(grep "^$1 " "$kept/originals") || return 0
    of=${of#* }
    want=$5
  fi
  is=$(kind "$2")
  [ "$is" = nothing ] && { say "it is not there" "$2"; return 0; }
  [ "$is" = "$3" ] || { say "it is a $is now" "$2"; return 0; }
  [ "$3" != other ] || { say "only an agent changes what is no file, folder or link" "$2"; return 0; }
  within "$2" "$3" || { say "it cannot be opened without a link, or has been exchanged" "$2"; return 0; }
  [ "$3" = folder ] || [ "$(stat -L -c %h -- "$at")" -eq 1 ] || [ "$3" = link ] || { say "it has other names (hard links)" "$2"; return 0; }
  [ "$(now "$3")" = "$want" ] || { say "it is no longer as it was reviewed" "$2"; return 0; }
  id=$(same "$3")
  sum=-
  [ "$8" = - ] || sum=$(sha256sum <"$at") || { say "it cannot be read" "$2"; return 0; }
  if [ "$way" = undo ]; then
    [ "$of" = "$id ${sum%% *}" ] || { say "another file, or something else, lies there now" "$2"; return 0; }
  else
    [ "$6" = - ] || [ "${id#*:}" = "$6" ] || { say "another file lies there than the one that was reviewed" "$2"; return 0; }
    [ "$7" = - ] || [ "$(sha256sum <"$at")" = "$7  -" ] || { say "what is in it is not what was reviewed" "$2"; return 0; }
    printf '%s %s %s\n' "$1" "$id" "${sum%% *}" >>"$kept/originals" || exit 1
  fi
  eval "id_$1=\$id"
  chosen="$chosen$1 "
}

# c NUMBER PATH KIND STATE LAST: leads a path to a state. It is opened anew, and has to be the file that was kept.
c() {
  case $chosen in *" $1 "*) ;; *) return 0 ;; esac
  p=$2 k=$3 to=$4 last=$5
  within "$p" "$k" || { [ "$last" = 0 ] || say "it cannot be opened without a link, or has been exchanged" "$p"; return 0; }
  eval "id=\$id_$1"
  [ "$(same "$k")" = "$id" ] || { [ "$last" = 0 ] || say "another file lies there now" "$p"; return 0; }
  # shellcheck disable=SC2086
  set -- $4
  if [ "$k" = link ]; then
    chown -h -- "$1" "$at"
    set -- ""
  elif [ "$(stat -L -c '%u:%g' -- "$at")" != "$1" ]; then
    chown -- "$1" "$at"
  fi
  if [ "$#" -gt 2 ]; then
    setfacl --set "$3" -- "$at"
  fi
  if [ "$#" -gt 1 ]; then
    chmod -- "0000$2" "$at" # with five digits or more set-ID bits of folders go, too
  fi
  if [ "$#" -gt 2 ]; then
    if [ "$k" = folder ]; then
      if [ "$4" = - ]; then setfacl -k -- "$at"; else setfacl -d --set "$4" -- "$at"; fi
    fi
    if [ "$k" = file ]; then
      if [ "$5" != - ]; then setfattr -n security.capability -v "$5" -- "$at"
      elif getfattr --absolute-names -n security.capability -- "$at" >/dev/null 2>&1; then setfattr -x security.capability -- "$at"; fi
    fi
  fi
  [ "$last" = 1 ] || return 0
  # What counts is what is seen afterwards, by the path and by no link.
  if within "$p" "$k" && [ "$(same "$k")" = "$id" ] && [ "$(now "$k")" = "$to" ]; then
    done=$((done + 1))
  else
    say "it was not seen to be as planned" "$p"
  fi
}
