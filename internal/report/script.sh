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
left=0
done=0
chosen=" "

# now PATH KIND: how a path is, in one line.
now() {
  o=$(stat -c '%u:%g' -- "$1") || return 1
  m=$(stat -c '%a' -- "$1") || return 1
  if [ "$2" = link ]; then
    echo "$o"
    return
  fi
  if [ "$lists" = no ]; then
    echo "$o $m"
    return
  fi
  a=$(getfacl -cnpE -- "$1" | grep -v -e '^default:' -e '^$' | paste -s -d , -)
  d=$(getfacl -cnpE -- "$1" | sed -n 's/^default://p' | paste -s -d , -)
  c=$(getfattr --absolute-names --only-values -e hex -n security.capability -- "$1" 2>/dev/null | od -An -v -tx1 | tr -d ' \n')
  echo "$o $m $a ${d:--} ${c:+0x}${c:--}"
}

kind() {
  if [ -L "$1" ]; then echo link; elif [ -d "$1" ]; then echo folder; elif [ -f "$1" ]; then echo file; elif [ -e "$1" ]; then echo other; else echo nothing; fi
}

say() {
  left=$((left + 1))
  printf '%s: ' "$1"
  printf '%s\n' "$2" | od -An -v -c | sed 's/^ *//' | tr -d '\n' | sed 's/ *\\n$//; s/   *//g'
  echo
}

# k NUMBER PATH KIND BEFORE AFTER: keeps the original, if the path is as it was reviewed.
k() {
  want=$4
  if [ "$way" = undo ]; then
    grep -qx "$1 .*" "$kept/originals" || return 0
    want=$5
  fi
  is=$(kind "$2")
  [ "$is" = nothing ] && { say "it is not there" "$2"; return 0; }
  [ "$3" = other ] || [ "$is" = "$3" ] || { say "it is a $is now" "$2"; return 0; }
  [ "$3" = folder ] || [ "$(stat -c %h -- "$2")" -eq 1 ] || { say "it has other names (hard links)" "$2"; return 0; }
  [ "$(now "$2" "$3")" = "$want" ] || { say "it is no longer as it was reviewed" "$2"; return 0; }
  [ "$way" = undo ] || printf '%s %s\n' "$1" "$want" >>"$kept/originals" || exit 1
  chosen="$chosen$1 "
}

# c NUMBER PATH KIND STATE LAST: leads a path to a state.
c() {
  case $chosen in *" $1 "*) ;; *) return 0 ;; esac
  p=$2 k=$3 last=$5
  # shellcheck disable=SC2086
  set -- $4
  if [ "$k" = link ]; then
    if chown -h -- "$1" "$p"; then done=$((done + last)); else say "it could not be changed" "$p"; fi
    return 0
  fi
  if [ "$(stat -c '%u:%g' -- "$p")" != "$1" ]; then
    chown -h -- "$1" "$p" || { say "its owner could not be changed" "$p"; return 0; }
  fi
  ok=yes
  if [ "$#" -gt 2 ]; then
    setfacl --set "$3" -- "$p" || ok=no
  fi
  chmod -- "0000$2" "$p" || ok=no # with five digits or more set-ID bits of folders go, too
  if [ "$#" -gt 2 ]; then
    if [ "$k" = folder ]; then
      if [ "$4" = - ]; then setfacl -k -- "$p" || ok=no; else setfacl -d --set "$4" -- "$p" || ok=no; fi
    fi
    if [ "$k" = file ]; then
      if [ "$5" != - ]; then setfattr -h -n security.capability -v "$5" -- "$p" || ok=no
      elif getfattr --absolute-names -n security.capability -- "$p" >/dev/null 2>&1; then setfattr -h -x security.capability -- "$p" || ok=no; fi
    fi
  fi
  if [ "$ok" = yes ]; then done=$((done + last)); else say "it could not be changed" "$p"; fi
}
