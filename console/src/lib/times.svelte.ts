// In which zone times are shown: the viewer's, or UTC by choice in the account.

const KEPT = "times";

class Times {
  utc = $state(localStorage.getItem(KEPT) === "utc");

  /** The zone's name, to be told once on a page. */
  get zone(): string {
    return this.utc ? "UTC" : Intl.DateTimeFormat().resolvedOptions().timeZone;
  }

  choose(utc: boolean) {
    this.utc = utc;
    localStorage.setItem(KEPT, utc ? "utc" : "local");
  }
}

export const times = new Times();
