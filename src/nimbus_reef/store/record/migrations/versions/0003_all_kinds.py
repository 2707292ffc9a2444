"""Tables for every report kind of the contract."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def _fact(name: str, keys: list[sa.Column], columns: list[sa.Column]) -> None:
    op.create_table(
        name,
        sa.Column("account_id", mysql.SMALLINT(unsigned=True), autoincrement=False, nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        *keys,
        sa.Column("scope", mysql.TINYINT(unsigned=True), nullable=False),
        sa.Column("batch_id", mysql.INTEGER(unsigned=True), nullable=False),
        *columns,
        sa.PrimaryKeyConstraint("account_id", "day", *(key.name for key in keys)),
        if_not_exists=True,
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )


def upgrade() -> None:
    _fact("campaign_daily", [sa.Column("campaign_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("impressions", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("clicks", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("spend", mysql.BIGINT(), nullable=False), sa.Column("orders", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("units", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("sales", mysql.BIGINT(), nullable=False)])
    _fact("ad_groups", [sa.Column("ad_group_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("state", sa.String(10), nullable=False), sa.Column("default_bid", mysql.BIGINT(), nullable=False)])
    _fact("product_ads", [sa.Column("product_ad_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("state", sa.String(10), nullable=False)])
    _fact("placement_daily", [sa.Column("campaign_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("placement", sa.String(20), nullable=False)], [sa.Column("impressions", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("clicks", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("spend", mysql.BIGINT(), nullable=False), sa.Column("orders", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("units", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("sales", mysql.BIGINT(), nullable=False)])
    _fact("hourly", [sa.Column("campaign_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("hour", mysql.TINYINT(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("impressions", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("clicks", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("spend", mysql.BIGINT(), nullable=False), sa.Column("orders", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("units", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("sales", mysql.BIGINT(), nullable=False), sa.Column("in_budget_minutes", mysql.INTEGER(unsigned=True), nullable=True)])
    _fact("boosts", [sa.Column("campaign_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("name", sa.String(255), nullable=False), sa.Column("what", sa.String(8), nullable=False)], [sa.Column("from", sa.Date(), nullable=False), sa.Column("to", sa.Date(), nullable=False), sa.Column("weekdays", sa.String(16), nullable=True), sa.Column("from_hour", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("to_hour", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("percent", sa.Double(), nullable=False), sa.Column("condition", sa.String(255), nullable=True)])
    _fact("product_sales_daily", [sa.Column("product_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("sessions", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("total_orders", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("total_units", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("total_sales", mysql.BIGINT(), nullable=False)])
    _fact("sales_hourly", [sa.Column("hour", mysql.TINYINT(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("total_orders", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("total_sales", mysql.BIGINT(), nullable=False)])
    _fact("peer_benchmarks", [sa.Column("category", sa.String(255), nullable=False), sa.Column("country", sa.String(8), nullable=False), sa.Column("format", sa.String(10), nullable=False), sa.Column("metric", sa.String(16), nullable=False)], [sa.Column("brands", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("p05", sa.Double(), nullable=False), sa.Column("p10", sa.Double(), nullable=False), sa.Column("p20", sa.Double(), nullable=False), sa.Column("p30", sa.Double(), nullable=False), sa.Column("p40", sa.Double(), nullable=False), sa.Column("p50", sa.Double(), nullable=False), sa.Column("p60", sa.Double(), nullable=False), sa.Column("p70", sa.Double(), nullable=False), sa.Column("p80", sa.Double(), nullable=False), sa.Column("p90", sa.Double(), nullable=False), sa.Column("p95", sa.Double(), nullable=False)])
    _fact("peer_format_mix", [sa.Column("category", sa.String(255), nullable=False), sa.Column("country", sa.String(8), nullable=False), sa.Column("format", sa.String(10), nullable=False)], [sa.Column("campaign_share", sa.Double(), nullable=False), sa.Column("spend_share", sa.Double(), nullable=False)])
    _fact("query_funnel", [sa.Column("query_phrase_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("product_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("search_volume", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("market_impressions", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("market_clicks", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("market_cart_adds", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("market_purchases", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("own_impressions", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("own_clicks", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("own_cart_adds", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("own_purchases", mysql.INTEGER(unsigned=True), nullable=False)])
    _fact("keyword_ranks", [sa.Column("keyword_phrase_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("item_id", sa.String(64), nullable=False)], [sa.Column("search_volume", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("category", sa.String(255), nullable=True), sa.Column("brand", sa.String(255), nullable=True), sa.Column("organic_rank", sa.Double(), nullable=True), sa.Column("sponsored_rank", sa.Double(), nullable=True)])
    _fact("rivals", [sa.Column("item_id", sa.String(64), nullable=False)], [sa.Column("brand", sa.String(255), nullable=False), sa.Column("title", sa.String(1024), nullable=False), sa.Column("category", sa.String(255), nullable=True), sa.Column("launch_date", sa.Date(), nullable=True), sa.Column("price", mysql.BIGINT(), nullable=True), sa.Column("rating", sa.Double(), nullable=True), sa.Column("reviews", mysql.INTEGER(unsigned=True), nullable=True), sa.Column("monthly_sales_estimate", mysql.BIGINT(), nullable=True)])
    _fact("events", [sa.Column("name", sa.String(255), nullable=False)], [sa.Column("from", sa.Date(), nullable=False), sa.Column("to", sa.Date(), nullable=False), sa.Column("country", sa.String(8), nullable=True)])
    _fact("listings", [sa.Column("product_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False)], [sa.Column("title", sa.String(1024), nullable=False), sa.Column("bullets", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("images", mysql.INTEGER(unsigned=True), nullable=False), sa.Column("rich_content", sa.String(3), nullable=False), sa.Column("brand_section", sa.String(3), nullable=False), sa.Column("rating", sa.Double(), nullable=True), sa.Column("reviews", mysql.INTEGER(unsigned=True), nullable=True), sa.Column("price", mysql.BIGINT(), nullable=True), sa.Column("in_stock", sa.String(3), nullable=False)])
    _fact("changes", [sa.Column("at", sa.DateTime(), nullable=False), sa.Column("campaign_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("ad_group_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("target_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("product_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False), sa.Column("field", sa.String(32), nullable=False)], [sa.Column("old", sa.String(255), nullable=True), sa.Column("new", sa.String(255), nullable=True), sa.Column("by", sa.String(255), nullable=True)])


def downgrade() -> None:
    for name in ("campaign_daily", "ad_groups", "product_ads", "placement_daily", "hourly", "boosts", "product_sales_daily", "sales_hourly", "peer_benchmarks", "peer_format_mix", "query_funnel", "keyword_ranks", "rivals", "events", "listings", "changes"):
        op.drop_table(name)
