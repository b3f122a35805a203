/** What just happened or went wrong; errors stay until they are dismissed. */
import { X } from "lucide-react";
import { useEffect } from "react";
import { useNotice } from "../api/queries";

export function Notices() {
  const { notice, tell } = useNotice();
  useEffect(() => {
    if (!notice?.good) return;
    const timer = setTimeout(() => tell(null), 6000);
    return () => clearTimeout(timer);
  }, [notice, tell]);
  if (!notice) return null;
  return (
    <div role={notice.good ? "status" : "alert"} className="fixed bottom-4 left-1/2 z-50 flex max-w-xl -translate-x-1/2 gap-3 rounded border border-rule bg-card px-4 py-2.5 shadow-lg">
      <div>
        <p className={`text-[14px] ${notice.good ? "" : "font-semibold text-parted"}`}>{notice.message}</p>
        {notice.remedy && <p className="text-[13px] text-quiet">What to do: {notice.remedy}.</p>}
      </div>
      <button type="button" aria-label="Dismiss" className="cursor-pointer self-start p-0.5 text-quiet" onClick={() => tell(null)}>
        <X size={16} />
      </button>
    </div>
  );
}
