# Completion of spokeshave for bash; made by scripts/desktop-files.
_spokeshave() {
  local word=${COMP_WORDS[COMP_CWORD]} words=""
  case ${COMP_WORDS[1]} in
    accept) words="--scenario --group --within-ms --within" ;;
    alarms) words="--csv --json" ;;
    brief) words="" ;;
    check) words="--waived --json" ;;
    convert) words="--style --prove --without-interlocks --measured-time --sheet --take --strict" ;;
    demo) words="--out --mistake" ;;
    diff) words="--json --html" ;;
    faults) words="--cycle --reset --jobs --cluster --csv --junit --accept --json" ;;
    find) words="--whole --used --json" ;;
    merge) words="" ;;
    open) words="" ;;
    propose) words="--seconds --out --take --devices --json" ;;
    reach) words="--together --before --assume --never --rows --stored --most --keep --json" ;;
    recipes) words="--csv --json" ;;
    replay) words="--name --shift --scenario --within-ms --within --stimuli --json" ;;
    room) words="--jobs --cluster --quick --tolerance --tolerance-of --keep --draws --seed --csv --json" ;;
    run) words="--for --scenario --recipe --stimuli --trace --keep-stimuli --every-scan" ;;
    serve) words="--modbus --opcua --as --for --allow --open --by-count --map --also --let-write --keep-map --map-table --json" ;;
    strength) words="--jobs --cluster --sample --seed --study --csv --junit --json" ;;
    text) words="" ;;
    tidy) words="" ;;
    verify) words="--junit --report --table --scenario --group --changed --keep --jobs --against --tolerance --their-scan --real-time --unit --outside --json" ;;
  esac
  if [ "$COMP_CWORD" = 1 ]; then
    COMPREPLY=($(compgen -W "accept alarms brief check convert demo diff faults find merge open propose reach recipes replay room run serve strength text tidy verify" -- "$word") $(compgen -f -- "$word"))
  elif [[ $word == -* ]]; then
    COMPREPLY=($(compgen -W "$words" -- "$word"))
  else
    COMPREPLY=($(compgen -f -- "$word"))
  fi
}
complete -o filenames -F _spokeshave spokeshave
